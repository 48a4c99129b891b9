/** JSON Schema (2020-12) of what we check by zod. */

import * as z from "zod";

/**
 * The JSON Schema of a file or of output; `name` is in its `$id`. What zod checks beyond JSON Schema is not in it.
 */
export function jsonSchemaOf(schema: z.ZodType, name: string): object {
  const made = z.toJSONSchema(schema, {
    io: "input",
    target: "draft-2020-12",
    override: ({ jsonSchema }) => {
      // a format of zod's own, which strict validators refuse; the pattern beside it says the same
      if (jsonSchema.format === "starts_with") delete jsonSchema.format;
    },
  });
  const { $schema, description, ...rest } = made;
  const plain = { $schema, $id: `urn:early-bridge:schema:${name}:1`, title: description, ...rest };
  const whole = JSON.parse(JSON.stringify(plain)) as Json;
  describeReferences(whole, whole.$defs as Readonly<Record<string, Json>> | undefined);
  return whole;
}

type Json = { [key: string]: unknown };

/** Says at each key what is said of the part that it refers to: editors show what stands at the key. */
function describeReferences(schema: unknown, parts: Readonly<Record<string, Json>> = {}): void {
  if (typeof schema !== "object" || schema === null) return;
  const { $ref, description } = schema as Json;
  const part = typeof $ref === "string" ? parts[$ref.replace("#/$defs/", "")] : undefined;
  if (part?.description !== undefined && description === undefined)
    (schema as Json).description = part.description;
  for (const inner of Object.values(schema)) describeReferences(inner, parts);
}
