/** Conditions in CEL (the Common Expression Language), checked and compiled once. */

import { Environment } from "@marcbachmann/cel-js";

export interface Condition {
  readonly text: string;
  /** @throws Error with CEL's own words when a field is missing or the kinds do not fit */
  holds(values: Readonly<Record<string, unknown>>): boolean;
}

/** What conditions may look at: those over a record, and those over an answer. */
const NAMES = { record: ["record"], answer: ["status", "headers", "body"] } as const;
export type ConditionKind = keyof typeof NAMES;

const environments = new Map<ConditionKind, Environment>();

function environmentFor(kind: ConditionKind): Environment {
  const known = environments.get(kind);
  if (known !== undefined) return known;
  const made = new Environment({ unlistedVariablesAreDyn: false });
  for (const name of NAMES[kind]) made.registerVariable(name, "dyn");
  environments.set(kind, made);
  return made;
}

/** Compiles a condition. Throws a plain Error with CEL's words when the text is none, or asks for other names. */
export function compileCondition(text: string, kind: ConditionKind): Condition {
  const environment = environmentFor(kind);
  const checked = environment.check(text);
  if (!checked.valid) throw checked.error ?? new Error("it is no expression");
  if (checked.type !== "bool" && checked.type !== "dyn")
    throw new Error(`it gives ${String(checked.type)}, not true or false`);
  const evaluate = environment.parse(text);
  return {
    text,
    holds(values) {
      const result: unknown = evaluate(values as Record<string, unknown>);
      if (typeof result === "boolean") return result;
      throw new Error(`it gives ${typeof result}, not true or false`);
    },
  };
}

/** As `holds`, where a field that is missing means that the condition does not hold. */
export function holdsOrMissing(condition: Condition, values: Readonly<Record<string, unknown>>): boolean {
  try {
    return condition.holds(values);
  } catch {
    // in CEL, a field that is not there is an error; for a rule about answers it is a plain no
    return false;
  }
}
