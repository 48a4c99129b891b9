/** What is to happen when the API's data changes its form. */

/** What a bridge wants of fields, lists and types that are new in tables that stand. */
export interface DriftPolicy {
  readonly new_column: "add" | "ignore" | "stop";
  readonly new_table: "add" | "ignore" | "stop";
  readonly type_change: "widen" | "quarantine" | "stop";
}

/** Everything is taken in. */
export const OPEN_POLICY: DriftPolicy = Object.freeze({
  new_column: "add",
  new_table: "add",
  type_change: "widen",
});
