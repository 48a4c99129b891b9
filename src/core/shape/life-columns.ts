/** Columns that tell of a record's life, beside its fields: its states, since when each held, when it was gone. */

import type { ColumnType } from "./column-type.js";
import { DELETED_COLUMN, STATE_COLUMN, VALID_FROM_COLUMN, VALID_TO_COLUMN } from "./own-columns.js";
import type { RecordLife } from "./shaped.js";
import { type ColumnRole, ColumnShape, type TableShape } from "./table-shape.js";

const TIME: ColumnType = { kind: "timestamp" };
const TEXT: ColumnType = { kind: "text" };

export class LifeColumns {
  private root: TableShape | undefined;
  /** what the record is like, as a digest */
  state: ColumnShape | undefined;
  /** tells states of a record apart, where several are kept */
  identity: ColumnShape | undefined;

  constructor(
    readonly life: RecordLife,
    private readonly stateOf: (record: unknown) => string,
  ) {}

  /** Adds them to a table, the stream's own first; gives the one that tells states apart. */
  addTo(table: TableShape): ColumnShape | undefined {
    const { states, validFrom, deleted } = this.life;
    const isRoot = this.root === undefined;
    const own = (name: string, role: ColumnRole, type: ColumnType) =>
      table.addColumn(new ColumnShape(name, "", role, { type }));
    const from = validFrom === undefined ? undefined : own(VALID_FROM_COLUMN, "valid_from", TIME);
    if (validFrom !== undefined) own(VALID_TO_COLUMN, "valid_to", TIME);
    if (deleted === true) own(DELETED_COLUMN, "deleted", TIME);
    // where the time tells states apart, only the record's own row has the digest
    const hasState = states === true && (isRoot || from === undefined);
    const state = hasState ? own(STATE_COLUMN, "state", TEXT) : undefined;
    if (isRoot) [this.root, this.state, this.identity] = [table, state, from ?? state];
    return from ?? state;
  }

  /** Puts what a record's own row says of its life; gives what tells the state apart. */
  put(record: Readonly<Record<string, unknown>>, row: number): readonly unknown[] {
    const { identity, state, life } = this;
    const digest = state && this.stateOf(record);
    state?.put(row, digest);
    if (identity === undefined) return [];
    if (identity === state) return [digest];
    const from = life.validFrom?.(record);
    identity.put(row, from);
    return [from];
  }
}

const ROLES: ReadonlySet<ColumnRole> = new Set(["state", "valid_from", "valid_to", "deleted"]);

/** Columns as tables have them: what tells of the record's life stands behind its fields. */
export function inTableOrder(columns: readonly ColumnShape[]): readonly ColumnShape[] {
  const isLife = ({ role }: ColumnShape) => ROLES.has(role);
  return [...columns.filter((column) => !isLife(column)), ...columns.filter(isLife)];
}
