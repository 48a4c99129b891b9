/**
 * The known form of a stream's tables: a tree that follows the records, and the columns at its leaves.
 *
 *   record ─ ObjectNode ─ fields ─┬─ column      scalars, and lists of scalars as json
 *                                 ├─ object      nested object: an ObjectNode of the same table
 *                                 └─ children    list of objects: a TableShape of its own
 *
 * A field may have all three: what arrives decides which is used, so no record is refused for its form.
 */

import type { ColumnBatch } from "./batch.js";
import { type ColumnType, NOTHING_SEEN, type Seen, typeOfSeen } from "./column-type.js";
import type { Conceal, Concealed } from "./concealed-values.js";
import { formatPath, type NameRules, nameForPath } from "./naming.js";
import type { ReadValue } from "./value-form.js";

/** What a connector says of one path. */
export interface ColumnRule {
  readonly type?: ColumnType | undefined;
  /** another name for its column, or for the table of its list */
  readonly name?: string | undefined;
  /** what objects and lists become, whatever they came as */
  readonly as?: "table" | "columns" | undefined;
  /** its values are stored as hashes: under a secret, or so that they can be guessed at */
  readonly hash?: "keyed" | "plain" | undefined;
  /** how its values are kept from being seen, by hashes or otherwise */
  readonly conceal?: Conceal | undefined;
  /** how its values are read, where they are written in a form of the API's own */
  readonly read?: ReadValue | undefined;
  /** make no column of it */
  readonly skip?: boolean | undefined;
  /** texts in it are numbers, every digit of which counts */
  readonly digits?: boolean | undefined;
  /** what it holds, in words */
  readonly description?: string | undefined;
}

/**
 * data: from the record · row_id: hash of a record without key · link: the root's key · position: in a list ·
 * more: fields beyond those that a table has columns for · state, valid_from, valid_to, deleted: of the record's life
 */
export type ColumnRole =
  | "data"
  | "row_id"
  | "link"
  | "position"
  | "more"
  | "state"
  | "valid_from"
  | "valid_to"
  | "deleted";

/**
 * An object of more keys, or one whose keys keep growing beyond it, holds data as keys; a table has as many
 * columns.
 */
export const MOST_KEYS = 1000;
/** A stream has as many tables: lists that come beyond them stand in json columns. */
export const MOST_TABLES = 100;
/** Where fields go for which a table has no columns left: an object by their paths, as JSON. */
export const MORE_COLUMN = "eb_more";

/** A column as the warehouse and the ledger know it. */
export interface ColumnSchema {
  readonly name: string;
  readonly path: string;
  readonly role: ColumnRole;
  readonly type: ColumnType;
  readonly declared: boolean;
  readonly seen: Seen;
  /** what it holds, in words, where somebody says so */
  readonly description?: string | undefined;
  /** what a value looked like that gave the column its type */
  readonly example?: string | undefined;
}

/** A table as the warehouse and the ledger know it. */
export interface TableSchema {
  readonly name: string;
  /** path of the list that the table holds; empty for the stream's own table */
  readonly path: string;
  readonly columns: readonly ColumnSchema[];
  /** what its rows are, in words, where somebody says so */
  readonly description?: string | undefined;
  /**
   * Names of the columns that identify the record a row belongs to, in one of its states where several are kept; empty
   * where the stream has no key.
   */
  readonly recordKey: readonly string[];
  /** those of them that hold the record's own key */
  readonly entityKey: readonly string[];
}

export class ColumnShape {
  /** raw values of the page being read, by row; shorter than the table where the last rows have none */
  readonly values: unknown[] = [];
  seen: Seen = NOTHING_SEEN;
  type: ColumnType | undefined;
  /** the type that it has in the tables that stand */
  standing: ColumnType | undefined;
  example: string | undefined;
  /** this page's values, where they were encoded ahead to check a declared type */
  encoded: ColumnBatch | undefined;

  constructor(
    readonly name: string,
    readonly path: string,
    readonly role: ColumnRole,
    readonly rule: ColumnRule,
    /** a link column has the type of the key column it repeats */
    readonly source?: ColumnShape,
  ) {
    this.type = rule.type;
  }

  put(row: number, value: unknown): void {
    const { values } = this;
    // a gap is filled, or V8 would turn a late column's array into a dictionary
    while (values.length < row) values.push(undefined);
    values[row] = value;
  }

  learn(seen: Seen): void {
    this.seen = seen;
    if (this.rule.type === undefined) this.type = typeOfSeen(seen);
  }
}

export interface FieldNode {
  readonly key: string;
  readonly index: number;
  readonly parts: readonly string[];
  readonly rule: ColumnRule;
  column: ColumnShape | undefined;
  object: ObjectNode | undefined;
  children: TableShape | undefined;
  /** objects here have too many keys for columns */
  wide: boolean;
  /** what is not to be seen below the field, where it is stored whole */
  readonly concealedBelow: readonly Concealed[];
}

export interface ObjectNode {
  readonly parts: readonly string[];
  readonly fields: Map<string, FieldNode>;
  /** in the order of first arrival: the walk guesses the next field from it */
  readonly order: FieldNode[];
}

export function newObjectNode(parts: readonly string[]): ObjectNode {
  return { parts, fields: new Map(), order: [] };
}

export class TableShape {
  readonly root: ObjectNode;
  /** made in this run: nothing in it is new in particular */
  isNew = false;
  readonly columns: ColumnShape[] = [];
  /** the record's key, and what tells its states apart */
  readonly links: ColumnShape[] = [];
  /** one per list level, outermost first; the last is the row's own `eb_position` */
  readonly positions: ColumnShape[] = [];
  readonly recordOf: number[] = [];
  /** empty lists of this page: `[]` where the field turns out to be a json column */
  readonly emptyLists: { readonly field: FieldNode; readonly row: number }[] = [];
  private readonly taken: Set<string>;
  private more: ColumnShape | undefined;

  constructor(
    readonly name: string,
    readonly parts: readonly string[],
    private readonly names: NameRules,
    reserved: readonly string[],
  ) {
    this.root = newObjectNode(parts);
    this.taken = new Set(reserved);
  }

  get rows(): number {
    return this.recordOf.length;
  }

  /** Adds a column for a path of the record, under the name that the ledger knows or a new one. */
  addDataColumn(parts: readonly string[], rule: ColumnRule, knownName?: string): ColumnShape {
    const own =
      rule.name === undefined ? parts.slice(this.parts.length).filter((part) => part !== "[*]") : [rule.name];
    const name = knownName ?? nameForPath(own, this.taken, this.names);
    return this.addColumn(new ColumnShape(name, formatPath(parts), "data", rule));
  }

  addColumn(column: ColumnShape): ColumnShape {
    this.taken.add(column.name);
    this.columns.push(column);
    return column;
  }

  /** Makes the column for fields that have none of their own. */
  addMore(): ColumnShape {
    this.more ??= this.addColumn(new ColumnShape(MORE_COLUMN, "", "more", { type: { kind: "json" } }));
    return this.more;
  }

  get hasMore(): boolean {
    return this.more !== undefined;
  }

  /** Whether a field that is new in an object gets no column any more. */
  isFull({ order }: ObjectNode): boolean {
    return this.columns.length >= MOST_KEYS || order.length >= MOST_KEYS;
  }

  clearRows(): void {
    this.recordOf.length = 0;
    this.emptyLists.length = 0;
    for (const column of this.columns) {
      column.values.length = 0;
      column.encoded = undefined;
    }
  }
}
