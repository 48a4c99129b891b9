/** What shaping takes and gives. */

import type { ColumnMatch } from "../into/match-columns.js";
import type { TableBatch } from "./batch.js";
import type { ColumnType, Seen } from "./column-type.js";
import type { DriftPolicy } from "./drift-policy.js";
import type { NameRules } from "./naming.js";
import type { Digest } from "./record-state.js";
import type { ColumnRole, ColumnRule, Room } from "./table-shape.js";

/** What is known of a stream before its first record. */
export interface ShapeSpec {
  readonly stream: string;
  /** what its records are, in words */
  readonly description?: string | undefined;
  /** tells this load from others: records without a key that are alike keep apart; default: "" */
  readonly load?: string | undefined;
  /** the table that stands already, which rows go into; default: those that the stream makes */
  readonly into?: ColumnMatch | undefined;
  /** paths of the key's fields; empty where a record has none */
  readonly key: readonly (readonly string[])[];
  /** rules by path, as `formatPath` writes it */
  readonly columns: ReadonlyMap<string, ColumnRule>;
  readonly names: NameRules;
  /** what it does not say is as in ROOM */
  readonly room?: { readonly [K in keyof Room]?: Room[K] | undefined } | undefined;
  /** table names that belong to others in the same schema */
  readonly takenTables: ReadonlySet<string>;
  /** what happens to what is new in tables that stand; default: it is taken in */
  readonly drift?: DriftPolicy | undefined;
  /** beside `eb_run` and `eb_loaded_at`; default: nothing */
  readonly life?: RecordLife | undefined;
  /** whether the field at a path becomes a column at all; default: all do */
  readonly isWanted?: ((parts: readonly string[]) => boolean) | undefined;
  /** whether a member of an object says something of it, and is no field */
  readonly isControl?: ((name: string) => boolean) | undefined;
  /** whether such a member has to be seen by who reads whole records: it is not passed over unseen */
  readonly isTelling?: ((name: string) => boolean) | undefined;
  /** whether a record only tells that one is gone: its key is all that counts. Needs a key */
  readonly isRemoval?: ((record: Readonly<Record<string, unknown>>) => boolean) | undefined;
}

/** What rows say of their record's life, beside its fields. */
export interface RecordLife {
  /** `eb_state`: a digest of what is stored of the record, by which states are told apart */
  readonly states?: boolean | undefined;
  /** what makes it; default: JavaScript */
  readonly digest?: Digest | undefined;
  /** `eb_valid_from`: since when the record is as it is, RFC 3339; `eb_valid_to` stands beside it */
  readonly validFrom?: ((record: Readonly<Record<string, unknown>>) => string) | undefined;
  /** `eb_deleted_at`: empty until the record is told to be gone */
  readonly deleted?: boolean | undefined;
}

/** A column that the ledger remembers from earlier runs. */
export interface KnownColumn {
  readonly table: string;
  readonly tablePath: string;
  readonly name: string;
  readonly path: string;
  readonly role: ColumnRole;
  readonly type: ColumnType;
  readonly seen: Seen;
  /** whether it is one of those that identify a row */
  readonly isKey?: boolean | undefined;
  /** rows of its table since the last one with a value */
  readonly missingRows?: number | undefined;
  /** told in the journal, and not come back since */
  readonly hasStopped?: boolean | undefined;
}

/** Why a record cannot become rows. It is kept whole, in quarantine. */
export interface Issue {
  readonly reason:
    | "not_an_object"
    | "key_missing"
    | "type_mismatch"
    | "not_judged"
    | "not_computed"
    | "too_deep"
    /** the column of a table that is not ours is too narrow, or takes no NULL */
    | "not_held"
    /** the API says so itself */
    | "told_faulty";
  readonly path: string;
  readonly message: string;
  readonly record: unknown;
  /** of the pass, where it came on one */
  readonly page?: number | undefined;
}

/** A change of the tables' form, or one that was left out; journaled in the ledger. */
export interface SchemaChange {
  readonly table: string;
  readonly column: string | undefined;
  readonly change:
    | "table_added"
    | "column_added"
    | "type_widened"
    | "column_ignored"
    | "table_ignored"
    /** no value has come for long */
    | "column_stopped"
    /** values come again */
    | "column_returned";
  readonly fromType?: string | undefined;
  readonly toType?: string | undefined;
  /** of the field */
  readonly path?: string | undefined;
  /** what a value looked like that brought it, its letters and digits hidden */
  readonly example?: string | undefined;
}

/** What a page of records has become. */
export interface Shaped {
  readonly batches: readonly TableBatch[];
  /** the keys of records that are gone, as columns of the stream's own table; their order is that of the page */
  readonly removed: TableBatch | undefined;
  readonly issues: readonly Issue[];
  /** what was new and was left out */
  readonly drift?: readonly SchemaChange[] | undefined;
}
