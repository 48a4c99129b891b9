/** Tables of a MariaDB or MySQL server that are not ours. */

import type { UserColumn, UserTable } from "../../core/into/user-table.js";
import type { SqlConnection, SqlDialect, SqlRow, UserTableSql } from "../sql/dialect.js";
import {
  type ColumnKind,
  decimalOf,
  intBounds,
  plainKind,
  userColumn,
  wordsKind,
} from "../sql/user-columns.js";

/** The server's strict mode refuses what a column would cut. */
export const USER_TABLES: UserTableSql = {
  assigned: (value, _, { words }) => {
    if (/^(datetime|timestamp)/.test(words))
      return `CAST(${value} AS DATETIME(${/\((\d)\)/.exec(words)?.[1] ?? 0}))`;
    // JSON is compared with JSON alone; MariaDB keeps it as a text
    if (words === "json") return `CAST(${value} AS JSON)`;
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
    `SELECT table_type AS kind, engine AS engine, (SELECT transactions FROM information_schema.engines AS e WHERE e.engine = t.engine) AS safe
     FROM information_schema.tables AS t WHERE ${ofTable}`,
    of,
  );
  if (table === undefined) return undefined;
  const columns = await on.rows(
    `SELECT column_name AS name, column_type AS words, is_nullable AS nullable, column_default AS filled, extra AS extra,
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
  const collation = row.collation === null ? "" : String(row.collation);
  const column = {
    name: String(row.name),
    words,
    isNeeded: row.nullable === "NO",
    hasDefault: row.filled !== null || /auto_increment/.test(String(row.extra)),
    isGenerated: row.expression !== null && row.expression !== "",
    // in another character set, texts are compared as the server converts them
    collation: collation.startsWith("utf8mb4") ? collation : undefined,
  };
  return userColumn(column, kindOf(words));
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

function kindOf(words: string): ColumnKind {
  if (/^(?:tinyint\(1\)|bit\(1\))$/.test(words)) return plainKind("boolean");
  const whole = /^(tinyint|smallint|mediumint|int|bigint)(?:\(\d+\))?( unsigned)?/.exec(words);
  if (whole !== null) {
    const [, word, unsigned] = whole;
    const bits = BITS[word!]!;
    const type = bits === 64 && unsigned !== undefined ? decimalOf(20, 0) : ({ kind: "int64" } as const);
    return { type, bounds: intBounds(bits, unsigned !== undefined) };
  }
  const digits = /^decimal\((\d+),(\d+)\)/.exec(words);
  if (digits !== null) return { type: decimalOf(Number(digits[1]), Number(digits[2])) };
  if (/^(?:float|double)/.test(words)) return plainKind("float64");
  const signs = /^(var)?char\((\d+)\)$/.exec(words);
  if (signs !== null) return { ...plainKind("text"), bounds: { signs: Number(signs[2]) } };
  const text = /^(tiny|medium|long|)(text|blob)$/.exec(words);
  if (text !== null)
    return {
      ...plainKind(text[2] === "text" ? "text" : "bytes"),
      bounds: { bytes: TEXT_BYTES[text[1]!]! - 1 },
    };
  if (/^(?:var)?binary\(/.test(words)) return plainKind("bytes");
  if (words === "date" || words === "uuid" || words === "json") return plainKind(words);
  if (/^(?:datetime|timestamp)/.test(words)) return { ...plainKind("timestamp"), isLocal: true };
  const labels = /^enum\((.*)\)$/s.exec(words);
  return labels === null ? {} : wordsKind(labels[1]!);
}
