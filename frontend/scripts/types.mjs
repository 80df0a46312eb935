// TypeScript types from the server's own description, read from standard input.
import { readFileSync, writeFileSync } from "node:fs";
import { compile } from "json-schema-to-typescript";

// a model that is both asked for and given has two forms: the one that is given keeps the name
const text = readFileSync(0, "utf8")
  .replaceAll(/(\w+)-Output\b/g, "$1")
  .replaceAll(/(\w+)-Input\b/g, "$1Input");
const description = JSON.parse(text);
const schemas = description.components.schemas;
const untitled = (x) =>
  Array.isArray(x)
    ? x.map(untitled)
    : x && typeof x === "object"
      ? Object.fromEntries(
          Object.entries(x)
            .filter(([k, v]) => k !== "title" || typeof v !== "string")
            .map(([k, v]) => [k, untitled(v)]),
        )
      : x;
const root = {
  $defs: untitled(JSON.parse(JSON.stringify(schemas).replaceAll("#/components/schemas/", "#/$defs/"))),
  type: "object",
  additionalProperties: false,
  properties: Object.fromEntries(Object.keys(schemas).map((n) => [n, { $ref: `#/$defs/${n}` }])),
  required: Object.keys(schemas),
};
const types = await compile(root, "Models", {
  additionalProperties: false,
  bannerComment: "// Made by `make types` from the server's description; do not edit.",
  ignoreMinAndMaxItems: true,
});

// each path with what it takes and what it gives, so that the two cannot be paired wrongly
const named = (ref) => ref?.split("/").pop();
const entries = { get: [], post: [], put: [], patch: [], delete: [] };
for (const [path, operations] of Object.entries(description.paths)) {
  for (const [method, o] of Object.entries(operations)) {
    const answer = named(o.responses["200"].content["application/json"]?.schema?.$ref);
    if (!answer) continue; // a file: linked to, not asked for
    const numbers = new Set((o.parameters ?? []).filter((x) => x.schema?.type === "integer").map((x) => x.name));
    const shape = path
      .replace("/api", "")
      .replace(/\{(\w+)\}/g, (_, name) => (numbers.has(name) ? "${Id}" : "${string}"));
    const body = named(o.requestBody?.content?.["application/json"]?.schema?.$ref);
    const taken = body ? `Models["${body}"]` : o.requestBody ? "FormData" : "undefined";
    const key = shape.includes("$") ? `[path: \`${shape}\`]` : JSON.stringify(shape);
    entries[method].push(`  ${key}: { body: ${taken}; answer: Models["${answer}"] };`);
  }
}
const paths = Object.entries(entries).map(
  ([method, lines]) => `export interface ${method[0].toUpperCase()}${method.slice(1)}Paths {\n${lines.join("\n")}\n}`,
);
writeFileSync(process.argv[2], `${types}\ntype Id = number;\n${paths.join("\n")}\n`);
