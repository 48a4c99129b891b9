/** Keys of a connector file as the one schema has them: what may stand where the cursor is. */

import type { Completion, CompletionContext, CompletionResult } from "@codemirror/autocomplete";
import { connectorSchema, jsonSchemaOf } from "early-bridge/core";

type Schema = Readonly<Record<string, unknown>>;

const root = jsonSchemaOf(connectorSchema, "input") as Schema;

/** A schema with its reference followed. */
function resolved(schema: unknown): Schema {
  let at = schema as Schema | undefined;
  for (let step = 0; step < 20 && typeof at?.$ref === "string"; step++) {
    const steps = at.$ref
      .replace(/^#\/?/, "")
      .split("/")
      .filter((each) => each !== "");
    at = steps.reduce<unknown>((value, name) => (value as Schema | undefined)?.[name], root) as
      | Schema
      | undefined;
  }
  return at ?? {};
}

/** The schema and all ways that it allows. */
function ways(schema: unknown): Schema[] {
  const own = resolved(schema);
  const others = ["anyOf", "oneOf", "allOf"].flatMap(
    (kind) => (own[kind] as readonly unknown[] | undefined) ?? [],
  );
  return [own, ...others.flatMap((each) => ways(each))];
}

function within(schemas: readonly Schema[], key: string): Schema[] {
  return schemas.flatMap(({ properties, additionalProperties }) => {
    const named = (properties as Schema | undefined)?.[key];
    const found = named ?? (typeof additionalProperties === "object" ? additionalProperties : undefined);
    return found === undefined ? [] : ways(found);
  });
}

/** Keys of the maps around a place, outermost first, by their indentation and by braces on its line. */
export function keysAround(lines: readonly string[], line: number, before: string): string[] {
  const keys: string[] = [];
  let indent = /^ */.exec(before)![0].length;
  const open: string[] = [];
  for (const match of before.matchAll(/([A-Za-z_][\w.]*)\s*:\s*(?=\{)|[{}]/g)) {
    if (match[0] === "}") open.pop();
    else if (match[0] !== "{") open.push(match[1]!);
  }
  for (let at = line - 1; at >= 0 && indent > 0; at--) {
    const [, blanks, key] = /^( *)(?:- )?([A-Za-z_][\w.[\]*]*)\s*:/.exec(lines[at] ?? "") ?? [];
    if (blanks === undefined || key === undefined || blanks.length >= indent) continue;
    keys.unshift(key);
    indent = blanks.length;
  }
  return [...keys, ...open];
}

export function completeKeys(context: CompletionContext): CompletionResult | null {
  const word = context.matchBefore(/[a-z_]*/);
  if (word === null || (word.from === word.to && !context.explicit)) return null;
  const { number, from, text } = context.state.doc.lineAt(context.pos);
  const before = text.slice(0, word.from - from);
  // behind a colon stands a value, unless a brace opens a map
  if (/:\s+[^{]*$/.test(before) && !/\{[^}]*$/.test(before)) return null;
  const lines = context.state.doc.toString().split("\n");
  const schemas = keysAround(lines, number - 1, before).reduce(within, ways(root));
  const options = new Map<string, Completion>();
  for (const { properties } of schemas)
    for (const [label, value] of Object.entries((properties as Schema | undefined) ?? {})) {
      const { description } = resolved(value);
      options.set(label, {
        label,
        apply: `${label}: `,
        type: "property",
        ...(typeof description === "string" ? { info: description } : {}),
      });
    }
  return options.size === 0
    ? null
    : { from: word.from, options: [...options.values()], validFor: /^[a-z_]*$/ };
}
