/** Conditions in CEL (the Common Expression Language), compiled once. */

import { Environment } from "@marcbachmann/cel-js";

export interface Condition {
  readonly text: string;
  /** @throws Error with CEL's own words when a field is missing or the kinds do not fit */
  holds(values: Readonly<Record<string, unknown>>): boolean;
}

const environment = new Environment({ unlistedVariablesAreDyn: true });

/** Compiles a condition. Throws a plain Error with the parser's words when the text is none. */
export function compileCondition(text: string): Condition {
  const evaluate = environment.parse(text);
  return {
    text,
    holds(values) {
      const result: unknown = evaluate(values as Record<string, unknown>);
      if (typeof result === "boolean") return result;
      throw new Error(`the condition gives ${typeof result}, not true or false`);
    },
  };
}

/** As `holds`, where a field that is missing means that the condition does not hold. */
export function holdsOrMissing(condition: Condition, values: Readonly<Record<string, unknown>>): boolean {
  try {
    return condition.holds(values);
  } catch (error) {
    // in CEL, a field that is not there is an error; for a rule about answers it is a plain no
    if (/No such key|Unknown variable|no such overload|Cannot index/i.test((error as Error).message))
      return false;
    throw error;
  }
}
