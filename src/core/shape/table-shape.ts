/**
 * The known form of a stream's tables: a tree that follows the records, and the columns at its leaves.
 *
 *   record ─ ObjectNode ─┬─ fields ─┬─ column      scalars, and lists of scalars as json
 *                        │          ├─ object      nested object: an ObjectNode of the same table
 *                        │          └─ children    list of objects: a TableShape of its own
 *                        └─ entries  values of keys that are data: a TableShape of its own
 *
 * A field may have all three: what arrives decides which is used, so no record is refused for its form. Items that are
 * no objects have a field too, without a key: TableShape.item.
 */

import type { UserColumn } from "../into/user-table.js";
import type { ColumnBatch } from "./batch.js";
import { type ColumnType, NOTHING_SEEN, type Seen, typeOfSeen } from "./column-type.js";
import type { Conceal, Concealed } from "./concealed-values.js";
import { comparePaths, formatPath, type NameRules, nameForPath } from "./naming.js";
import { MORE_COLUMN } from "./own-columns.js";
import { levelsOf, placeName } from "./place-names.js";
import { plainSteps } from "./steps.js";
import type { ReadValue } from "./value-form.js";

/** What a connector says of one path. */
export interface ColumnRule {
  readonly type?: ColumnType | undefined;
  /** another name for its column, or for the table of its list */
  readonly name?: string | undefined;
  /** what objects and lists become, whatever they came as */
  readonly as?: "table" | "map" | "columns" | undefined;
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
  /** the column of a table that stands already, which its values go into */
  readonly into?: UserColumn | undefined;
}

/**
 * data: from the record · row_id: of a record without key · link: the root's key · position: in a list · map_key:
 * in a map · within: where the item stands that this one is in, of the same table · more: fields beyond those that a
 * table has columns for · state, valid_from, valid_to, deleted: of the record's life · into: of a table that is not
 * ours, filled by a field
 */
export type ColumnRole =
  | "data"
  | "row_id"
  | "link"
  | "position"
  | "map_key"
  | "within"
  | "more"
  | "state"
  | "valid_from"
  | "valid_to"
  | "deleted"
  | "into";

/** How much room tables have. */
export interface Room {
  /** of a table; an object within a record that has more keys is a map */
  readonly columns: number;
  /** of a stream: lists that come beyond them stand in json columns */
  readonly tables: number;
}

/** Room as it is where nothing else is said. */
export const ROOM: Room = Object.freeze({ columns: 1000, tables: 100 });
/**
 * From so many keys on, an object whose keys keep growing is a map: it brings new ones while it has less than half of
 * those that are known.
 */
export const MANY_KEYS = 100;
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
  /** whether a value has come in this run */
  readonly came?: boolean | undefined;
  /** rows of its table since the last one with a value */
  readonly missingRows?: number | undefined;
  /** no value has come for long, and the journal tells it */
  readonly hasStopped?: boolean | undefined;
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
  /** empty until the page that brought the column is read: names do not hang on what came first */
  name: string;
  seen: Seen = NOTHING_SEEN;
  type: ColumnType | undefined;
  /** the type that it has in the tables that stand */
  standing: ColumnType | undefined;
  example: string | undefined;
  came = false;
  missingRows = 0;
  hasStopped = false;
  /** this page's values, where they were encoded ahead to check a declared type */
  encoded: ColumnBatch | undefined;

  constructor(
    name: string,
    readonly path: string,
    readonly role: ColumnRole,
    readonly rule: ColumnRule,
    /** a link column has the type of the key column it repeats */
    readonly source?: ColumnShape,
  ) {
    this.name = name;
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
  /** what is not to be seen below the field, where it is stored whole */
  readonly concealedBelow: readonly Concealed[];
}

/** Which keys of an object are data: all, none, or those that look so. */
export type MapKeys = "all" | "none" | "some";

export interface ObjectNode {
  readonly parts: readonly string[];
  readonly fields: Map<string, FieldNode>;
  /** in the order of first arrival: the walk guesses the next field from it */
  readonly order: FieldNode[];
  mapKeys: MapKeys;
  entries: TableShape | undefined;
}

export function newObjectNode(parts: readonly string[], mapKeys: MapKeys): ObjectNode {
  return { parts, fields: new Map(), order: [], mapKeys, entries: undefined };
}

interface Unnamed {
  readonly column: ColumnShape;
  readonly parts: readonly string[];
}

export class TableShape {
  readonly root: ObjectNode;
  /** for items that are no objects; the stream's own table has none */
  item: FieldNode | undefined;
  /** made in this run: nothing in it is new in particular */
  isNew = false;
  readonly columns: ColumnShape[] = [];
  /** the record's key, and what tells its states apart */
  readonly links: ColumnShape[] = [];
  /** one per list or map on the way, outermost first; the last is the row's own `eb_position` or `eb_key` */
  readonly places: ColumnShape[] = [];
  /** by level: where the item stands, among those of the same table, that this one is in */
  readonly withins: (ColumnShape | undefined)[] = [];
  readonly recordOf: number[] = [];
  /** rows of the pages that were read */
  rowsSoFar = 0;
  /** empty lists of this page: `[]` where the field turns out to be a json column */
  readonly emptyLists: { readonly field: FieldNode; readonly row: number }[] = [];
  /** empty until the page that brought the table is read */
  name: string;
  private readonly taken: Set<string>;
  private unnamed: Unnamed[] = [];
  private more: ColumnShape | undefined;

  constructor(
    name: string,
    readonly parts: readonly string[],
    private readonly names: NameRules,
    reserved: readonly string[],
    mapKeys: MapKeys = "none",
  ) {
    this.name = name;
    this.root = newObjectNode(parts, mapKeys);
    this.taken = new Set(reserved);
  }

  get rows(): number {
    return this.recordOf.length;
  }

  /** Adds a column for a path of the record, under the name that the ledger knows; without one, it is named later. */
  addDataColumn(parts: readonly string[], rule: ColumnRule, knownName?: string): ColumnShape {
    const column = this.addColumn(new ColumnShape(knownName ?? "", formatPath(parts), "data", rule));
    if (knownName === undefined) this.unnamed.push({ column, parts });
    return column;
  }

  addColumn(column: ColumnShape): ColumnShape {
    if (column.name !== "") this.taken.add(column.name);
    this.columns.push(column);
    return column;
  }

  /** Names the columns that are new: those that the connector names first, then by their paths. */
  nameColumns(): void {
    if (this.unnamed.length === 0) return;
    const isSaid = ({ column }: Unnamed) => Number(column.rule.name !== undefined);
    this.unnamed.sort((a, b) => isSaid(b) - isSaid(a) || comparePaths(a.parts, b.parts));
    for (const { column, parts } of this.unnamed) {
      const own =
        column.rule.name === undefined ? plainSteps(parts.slice(this.parts.length)) : [column.rule.name];
      column.name = nameForPath(own.length === 0 ? ["value"] : own, this.taken, this.names);
      this.taken.add(column.name);
    }
    this.unnamed = [];
  }

  /** Makes the column for fields that have none of their own. */
  addMore(): ColumnShape {
    this.more ??= this.addColumn(new ColumnShape(MORE_COLUMN, "", "more", { type: { kind: "json" } }));
    return this.more;
  }

  get hasMore(): boolean {
    return this.more !== undefined;
  }

  /** Where items of the same table hold others, where this one stands is a column too. */
  addWithin(level: number): ColumnShape {
    const list = levelsOf(this.parts)[level]!;
    const name = placeName(this.parts, list, "within", this.names);
    const column = this.addColumn(
      new ColumnShape(name, formatPath(list), "within", { type: { kind: "text" } }),
    );
    this.withins[level] = column;
    return column;
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
