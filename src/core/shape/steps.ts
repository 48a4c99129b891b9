/**
 * The steps of a path through a record: keys of objects, each item of a list, each entry of a map. A map is an object
 * whose keys are data: dates, currencies, ids.
 */

/** The step to each item of a list. */
export const LIST_STEP = "[*]";
/** The step to each entry of a map. */
export const MAP_STEP = "{*}";

/** Whether a step leads into a table of its own. */
export function isManyStep(step: string): boolean {
  return step === LIST_STEP || step === MAP_STEP;
}

/** The step to a key: one that looks like a step itself is marked. */
export function stepOfKey(key: string): string {
  return /^\\*(\[\*\]|\{\*\})$/.test(key) ? `\\${key}` : key;
}

/** The key that a step leads to. */
export function keyOfStep(step: string): string {
  return step.startsWith("\\") && /^\\+(\[\*\]|\{\*\})$/.test(step) ? step.slice(1) : step;
}

/** A path without the steps into tables. */
export function plainSteps(steps: readonly string[]): string[] {
  return steps.filter((step) => !isManyStep(step));
}

/** Where a path leaves the last table on its way: the number of steps that lead there. */
export function stepsToTable(steps: readonly string[]): number {
  let length = steps.length;
  while (length > 0 && !isManyStep(steps[length - 1]!)) length--;
  return length;
}

/**
 * Whether a list or map stands within an item of one alike: `replies[*].replies` in `replies[*]`. Its items belong to
 * the same table.
 */
export function isRecursive(steps: readonly string[]): boolean {
  const own = stepsToTable(steps);
  if (own < 2 || own === steps.length) return false;
  const outer = steps.slice(stepsToTable(steps.slice(0, own - 1)), own - 1);
  const inner = steps.slice(own);
  return outer.length === inner.length && outer.every((step, i) => step === inner[i]);
}

const DATA_KEYS = [
  /^\d+$/,
  // days, months, weeks, quarters, times
  /^\d{4}-(\d\d|W\d\d|Q[1-4])(-\d\d?)?([T ]\d\d.*)?$/,
  /^[0-9a-f]{8}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{12}$/i,
  // long hexadecimal ids
  /^(?=.*\d)[0-9a-f]{16,}$/i,
  /^[^@\s]+@[^@\s]+\.[^@\s]+$/,
  /^https?:\/\//i,
];

/** Whether an object's key cannot be a field's name, but is a number, a date, an id, an address. */
export function isDataKey(key: string): boolean {
  return DATA_KEYS.some((form) => form.test(key));
}
