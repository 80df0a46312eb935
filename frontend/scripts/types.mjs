// TypeScript types from the server's own description, read from standard input.
import { readFileSync, writeFileSync } from "node:fs";
import { compile } from "json-schema-to-typescript";

const description = JSON.parse(readFileSync(0, "utf8"));
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
const text = await compile(root, "Models", {
  additionalProperties: false,
  bannerComment: "// Made by `make types` from the server's description; do not edit.",
  ignoreMinAndMaxItems: true,
});
writeFileSync(process.argv[2], text);
