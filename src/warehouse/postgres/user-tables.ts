/** Tables of a PostgreSQL server that are not ours. */

import type { UserColumn, UserTable } from "../../core/into/user-table.js";
import type { SqlConnection, SqlRow, UserTableSql } from "../sql/dialect.js";
import {
  anyDecimal,
  type ColumnKind,
  decimalOf,
  intBounds,
  plainKind,
  userColumn,
} from "../sql/user-columns.js";

/** Values are cast to a column's type: what that would cut has gone to quarantine. */
export const USER_TABLES: UserTableSql = {
  assigned: (value, from, { words, isLocal, takes }) => {
    const moment = isLocal === true && from.kind === "timestamp" ? `(${value} AT TIME ZONE 'UTC')` : value;
    // a number has no zeros at its end that nobody wrote
    if (words === "numeric" && takes.kind === "decimal") return `trim_scale(CAST(${moment} AS numeric))`;
    return `CAST(${moment} AS ${words})`;
  },
  same: (standing, assigned, { takes, isForeign }) => {
    const as = (type: string) =>
      `CAST(${standing} AS ${type}) IS NOT DISTINCT FROM CAST(${assigned} AS ${type})`;
    // some types know no equality
    if (takes.kind === "json") return as("jsonb");
    return isForeign === true ? as("text") : `${standing} IS NOT DISTINCT FROM ${assigned}`;
  },
};

/** What may be done with a table, in the words of a grant. */
const RIGHTS = ["SELECT", "INSERT", "UPDATE", "DELETE"] as const;

/** Undefined where the table is not there. */
export async function userTable(
  on: SqlConnection,
  schema: string,
  name: string,
): Promise<UserTable | undefined> {
  const of = [schema, name];
  const rights = RIGHTS.map((right) =>
    right === "DELETE"
      ? `has_table_privilege(c.oid, 'DELETE') AS delete`
      : `has_any_column_privilege(c.oid, '${right}') AS ${right.toLowerCase()}`,
  );
  const [table] = await on.rows(
    `SELECT c.relkind AS kind, has_schema_privilege(n.oid, 'USAGE') AS usage, ${rights.join(", ")}
     FROM pg_class AS c JOIN pg_namespace AS n ON n.oid = c.relnamespace
     WHERE n.nspname = $1 AND c.relname = $2 AND c.relkind IN ('r', 'p', 'v', 'm', 'f')`,
    of,
  );
  if (table === undefined) return undefined;
  const columns = await on.rows(
    `SELECT a.attname AS name, format_type(a.atttypid, a.atttypmod) AS words, a.attnotnull OR t.typnotnull AS needed,
       a.atthasdef OR t.typdefault IS NOT NULL OR a.attidentity <> '' AS filled,
       a.attidentity = 'a' OR a.attgenerated <> '' AS generated,
       format_type(coalesce(nullif(t.typbasetype, 0), t.oid), coalesce(nullif(t.typtypmod, -1), a.atttypmod)) AS base,
       (SELECT json_agg(e.enumlabel ORDER BY e.enumsortorder)::TEXT FROM pg_enum AS e WHERE e.enumtypid = t.oid) AS labels
     FROM pg_class AS c JOIN pg_namespace AS n ON n.oid = c.relnamespace
     JOIN pg_attribute AS a ON a.attrelid = c.oid AND a.attnum > 0 AND NOT a.attisdropped
     JOIN pg_type AS t ON t.oid = a.atttypid
     WHERE n.nspname = $1 AND c.relname = $2 ORDER BY a.attnum`,
    of,
  );
  const keys = await on.rows(
    `SELECT (SELECT json_agg(a.attname)::TEXT FROM pg_attribute AS a
         WHERE a.attrelid = c.oid AND a.attnum = ANY (i.indkey)) AS names
     FROM pg_class AS c JOIN pg_namespace AS n ON n.oid = c.relnamespace JOIN pg_index AS i ON i.indrelid = c.oid
     WHERE n.nspname = $1 AND c.relname = $2
       AND i.indisunique AND i.indisvalid AND i.indpred IS NULL AND i.indexprs IS NULL`,
    of,
  );
  const mayUse = table.usage === true;
  return {
    schema,
    name,
    columns: columns.map(columnOf),
    uniqueKeys: keys.map((row) => JSON.parse(String(row.names)) as string[]),
    obstacle: obstacleOf(String(table.kind)),
    lacks: RIGHTS.filter((right) => !mayUse || table[right.toLowerCase()] !== true),
    quote: '"',
  };
}

function obstacleOf(kind: string): string | undefined {
  if (kind === "r" || kind === "p") return undefined;
  return kind === "f" ? "it is a table of another server, which takes no part in a commit" : "it is a view";
}

function columnOf(row: SqlRow): UserColumn {
  const column = {
    name: String(row.name),
    words: String(row.words),
    isNeeded: row.needed === true,
    hasDefault: row.filled === true,
    isGenerated: row.generated === true,
  };
  return userColumn(column, kindOf(String(row.base), row.labels === null ? undefined : String(row.labels)));
}

const KINDS: Readonly<Record<string, ColumnKind>> = {
  boolean: plainKind("boolean"),
  smallint: { ...plainKind("int64"), bounds: intBounds(16) },
  integer: { ...plainKind("int64"), bounds: intBounds(32) },
  bigint: plainKind("int64"),
  real: plainKind("float64"),
  "double precision": plainKind("float64"),
  numeric: { type: anyDecimal },
  text: plainKind("text"),
  "character varying": plainKind("text"),
  date: plainKind("date"),
  uuid: plainKind("uuid"),
  bytea: plainKind("bytes"),
  json: plainKind("json"),
  jsonb: plainKind("json"),
};

function kindOf(words: string, labels: string | undefined): ColumnKind {
  if (labels !== undefined) return { bounds: { words: JSON.parse(labels) as string[] } };
  const known = KINDS[words];
  if (known !== undefined) return known;
  const signs = /^character(?: varying)?\((\d+)\)$/.exec(words);
  if (signs !== null) return { ...plainKind("text"), bounds: { signs: Number(signs[1]) } };
  const digits = /^numeric\((\d+),(-?\d+)\)$/.exec(words);
  if (digits !== null) return { type: decimalOf(Number(digits[1]), Number(digits[2])) };
  if (/^timestamp(?:\(\d\))? with time zone$/.test(words)) return plainKind("timestamp");
  if (/^timestamp(?:\(\d\))? without time zone$/.test(words))
    return { ...plainKind("timestamp"), isLocal: true };
  return {};
}
