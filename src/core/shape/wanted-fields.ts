/** Which fields become columns: paths, and patterns of paths. */

import { formatPath, parsePath } from "./naming.js";
import { plainSteps } from "./steps.js";

/** Patterns of paths: `*` stands for one step, `**` for any number of them; lists and maps need no `[*]` or `{*}`. */
export interface FieldChoice {
  readonly only?: readonly string[] | undefined;
  readonly except?: readonly string[] | undefined;
}

/** Whether a field becomes a column; what a pattern names includes all below it. The key always does. */
export function wantedFields(
  { only, except = [] }: FieldChoice,
  key: readonly (readonly string[])[],
): (parts: readonly string[]) => boolean {
  const wanted = only && [...only.map(stepsOf), ...key];
  const unwanted = except.map(stepsOf);
  const isKey = (steps: readonly string[]) => key.some((each) => formatPath(each) === formatPath(steps));
  return (parts) => {
    const steps = plainSteps(parts);
    if (unwanted.some((pattern) => matches(pattern, steps)) && !isKey(steps)) return false;
    return wanted?.some((pattern) => matches(pattern, steps) || leadsTo(steps, pattern)) ?? true;
  };
}

function stepsOf(pattern: string): string[] {
  return plainSteps(parsePath(pattern) ?? [pattern]);
}

/** Whether a pattern names a path, or something that it is in. */
function matches(pattern: readonly string[], steps: readonly string[]): boolean {
  const [first, ...rest] = pattern;
  if (first === undefined) return true;
  if (first === "**") return steps.some((_, at) => matches(rest, steps.slice(at)));
  return steps.length > 0 && isStep(first, steps[0]!) && matches(rest, steps.slice(1));
}

/** Whether what a pattern names may lie below a path. */
function leadsTo(steps: readonly string[], pattern: readonly string[]): boolean {
  const [first, ...rest] = pattern;
  const [step, ...others] = steps;
  if (step === undefined || first === "**") return true;
  return first !== undefined && isStep(first, step) && leadsTo(others, rest);
}

/** A star within a step stands for any signs. */
function isStep(pattern: string, step: string): boolean {
  if (!pattern.includes("*")) return pattern === step;
  const source = pattern.split("*").map((text) => text.replace(/[.+?^${}()|[\]\\]/g, "\\$&"));
  return new RegExp(`^${source.join(".*")}$`, "su").test(step);
}
