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
writeFileSync(process.argv[2], types);
