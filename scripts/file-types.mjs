// TypeScript of a JSON Schema: what may be left out may also be undefined, and each key carries its description.
import { execFileSync } from "node:child_process";

/** What says more than a type can. */
const RULES = new Set([
  ...["allOf", "oneOf", "not", "dependentRequired", "propertyNames", "pattern", "format", "$id", "$schema"],
  ...["minLength", "maxLength", "minItems", "minProperties", "minimum", "maximum", "exclusiveMinimum"],
]);

function plain(schema) {
  if (Array.isArray(schema)) return schema.map(plain);
  if (typeof schema !== "object" || schema === null) return schema;
  // what stands beside a reference would make a type of its own of it
  if (schema.$ref !== undefined) return { $ref: schema.$ref };
  const { properties, required = [], default: usual, ...all } = schema;
  // beside properties, alternatives are rules over their keys
  const { anyOf, ...others } = all;
  const rest = properties === undefined ? all : others;
  const kept = Object.entries(rest).filter(([key]) => !RULES.has(key));
  const made = Object.fromEntries(kept.map(([key, value]) => [key, plain(value)]));
  if (properties === undefined) return made;
  const entries = Object.entries(properties).map(([key, value]) => {
    const description = described(value);
    const { description: _, ...type } = plain(value);
    if (required.includes(key)) return [key, { description, anyOf: [type] }];
    return [key, { description, anyOf: [type, { tsType: "undefined" }] }];
  });
  return { ...made, properties: Object.fromEntries(entries), required };
}

function described({ description, default: usual }) {
  return usual === undefined || typeof usual === "object"
    ? description
    : `${description}. Default: ${JSON.stringify(usual)}`;
}

/** The types of a file; `compile` is that of json-schema-to-typescript. */
export async function typesOf(json, name, compile) {
  const bannerComment = `/** Made by \`npm run schemas\` from the zod schema of the file. */`;
  const options = { bannerComment, ignoreMinAndMaxItems: true, format: false, strictIndexSignatures: false };
  const text = await compile({ ...plain(json), title: name, description: json.title }, name, options);
  // a value of any JSON has no name of its own in the schema
  return text.replaceAll("_Schema0", "Json").replaceAll(/\/\*\*\n\s*\* (.{1,95})\n\s*\*\//g, "/** $1 */");
}

/** As the formatter of the house writes it. */
export function formatted(text) {
  const args = ["node_modules/@biomejs/biome/bin/biome", "format", "--stdin-file-path=types.ts"];
  return execFileSync(process.execPath, args, { input: text, encoding: "utf8" });
}
