/** Tables of a MariaDB server that are not ours. */

import type { UserColumn, UserTable, ValueBounds } from "../../core/into/user-table.js";
import type { ColumnType } from "../../core/shape/column-type.js";
import type { SqlConnection, SqlDialect, SqlRow, UserTableSql } from "../sql/dialect.js";
import { decimalOf, intBounds } from "../sql/user-columns.js";

/** The server's strict mode refuses what a column would cut. */
export const USER_TABLES: UserTableSql = {
  assigned: (value, _, { words }) => {
    if (/^(datetime|timestamp)/.test(words))
      return `CAST(${value} AS DATETIME(${/\((\d)\)/.exec(words)?.[1] ?? 0}))`;
    return words.startsWith("float") ? `CAST(${value} AS FLOAT)` : value;
  },
  asKey: (value, _, { collation }) => (collation === undefined ? value : `${value} COLLATE ${collation}`),
  // case and accents count, whatever the column's own order makes of them
  same: (standing, assigned, { takes, collation }) =>
    takes.kind === "text" && collation !== undefined
      ? `BINARY ${standing} <=> BINARY ${assigned}`
      : `${standing} <=> ${assigned}`,
};

/** Undefined where the table is not there, or may not be seen. */
export async function userTable(
  sql: SqlDialect,
  on: SqlConnection,
  schema: string,
  name: string,
): Promise<UserTable | undefined> {
  const of = [sql.ledger.databaseOf!(schema), name];
  const ofTable = "table_schema = $1 AND table_name = $2";
  const [table] = await on.rows(
    `SELECT table_type AS kind, engine, (SELECT transactions FROM information_schema.engines AS e WHERE e.engine = t.engine) AS safe
     FROM information_schema.tables AS t WHERE ${ofTable}`,
    of,
  );
  if (table === undefined) return undefined;
  const columns = await on.rows(
    `SELECT column_name AS name, column_type AS words, is_nullable AS nullable, column_default AS filled, extra,
       collation_name AS collation, generation_expression AS expression
     FROM information_schema.columns WHERE ${ofTable} ORDER BY ordinal_position`,
    of,
  );
  const keys = await on.rows(
    `SELECT index_name AS rule, column_name AS name, sub_part AS part FROM information_schema.statistics
     WHERE ${ofTable} AND non_unique = 0 ORDER BY index_name, seq_in_index`,
    of,
  );
  const unique = new Map<string, string[]>();
  for (const row of keys)
    unique.set(String(row.rule), [...(unique.get(String(row.rule)) ?? []), String(row.name)]);
  return {
    schema,
    name,
    columns: columns.map(columnOf),
    uniqueKeys: [...unique.values()],
    obstacle: obstacleOf(table),
    lacks: [],
    quote: "`",
  };
}

function obstacleOf({ kind, engine, safe }: SqlRow): string | undefined {
  if (kind !== "BASE TABLE") return "it is a view";
  return safe === "YES"
    ? undefined
    : `its engine ${String(engine)} knows no transactions, so that rows and cursor could part`;
}

function columnOf(row: SqlRow): UserColumn {
  const words = String(row.words);
  const extra = String(row.extra);
  const collation = row.collation === null ? undefined : String(row.collation);
  const { type, bounds, isLocal } = kindOf(words);
  return {
    name: String(row.name),
    words,
    takes: type ?? { kind: "text" },
    isForeign: type === undefined,
    isLocal,
    isNeeded: row.nullable === "NO",
    hasDefault: row.filled !== null || /auto_increment/.test(extra),
    isGenerated: row.expression !== null && row.expression !== "",
    bounds,
    collation: collation?.startsWith("utf8mb4") === true ? collation : undefined,
  };
}

interface Kind {
  /** undefined: only the server knows the type */
  readonly type?: ColumnType | undefined;
  readonly bounds?: ValueBounds | undefined;
  readonly isLocal?: boolean;
}

const BITS: Readonly<Record<string, number>> = {
  tinyint: 8,
  smallint: 16,
  mediumint: 24,
  int: 32,
  bigint: 64,
};
const TEXT_BYTES: Readonly<Record<string, number>> = {
  tiny: 2 ** 8,
  "": 2 ** 16,
  medium: 2 ** 24,
  long: 2 ** 32,
};

const plain = (kind: Exclude<ColumnType["kind"], "decimal">): Kind => ({ type: { kind } });

function kindOf(words: string): Kind {
  if (/^(?:tinyint\(1\)|bit\(1\))$/.test(words)) return plain("boolean");
  const whole = /^(tinyint|smallint|mediumint|int|bigint)(?:\(\d+\))?( unsigned)?/.exec(words);
  if (whole !== null) {
    const [, word, unsigned] = whole;
    const bits = BITS[word!]!;
    const type = bits === 64 && unsigned !== undefined ? decimalOf(20, 0) : ({ kind: "int64" } as const);
    return { type, bounds: intBounds(bits, unsigned !== undefined) };
  }
  const digits = /^decimal\((\d+),(\d+)\)/.exec(words);
  if (digits !== null) return { type: decimalOf(Number(digits[1]), Number(digits[2])) };
  if (/^(?:float|double)/.test(words)) return plain("float64");
  const signs = /^(var)?char\((\d+)\)$/.exec(words);
  if (signs !== null) return { ...plain("text"), bounds: { signs: Number(signs[2]) } };
  const text = /^(tiny|medium|long|)(text|blob)$/.exec(words);
  if (text !== null)
    return { ...plain(text[2] === "text" ? "text" : "bytes"), bounds: { bytes: TEXT_BYTES[text[1]!]! - 1 } };
  if (/^(?:var)?binary\(/.test(words)) return plain("bytes");
  if (words === "date" || words === "uuid") return plain(words);
  if (/^(?:datetime|timestamp)/.test(words)) return { ...plain("timestamp"), isLocal: true };
  const labels = /^enum\((.*)\)$/s.exec(words);
  if (labels === null) return {};
  const texts = labels[1]!.match(/'(?:[^']|'')*'/g) ?? [];
  return { bounds: { words: texts.map((each) => each.slice(1, -1).replaceAll("''", "'")) } };
}
