/**
 * What the server knows of a table's values. It finds that out by itself some time after a load (autovacuum), or never
 * where that is off. Until then it takes each key for one of some thousand rows, and goes through all of a table for a
 * few records that have changed.
 */

import type { SqlConnection } from "../sql/dialect.js";
import { ledgerSchema } from "../sql/ledger-schema.js";
import type { LoadOptions } from "../warehouse.js";
import { POSTGRES } from "./dialect.js";

/** A smaller table is read fast in any way; bytes. */
const SMALL = 1_000_000;

/** Has the server look at a stream's tables of which it knows nothing, unless somebody else is at work on them. */
export async function learnTables(on: SqlConnection, of: LoadOptions): Promise<void> {
  const { schema, bridge, stream } = of;
  const unknown = await on.rows(
    `SELECT c.relname AS name FROM pg_class AS c JOIN pg_namespace AS n ON n.oid = c.relnamespace
     WHERE n.nspname = $1 AND c.relkind = 'r' AND pg_relation_size(c.oid) > ${SMALL}
     AND c.relname IN (SELECT table_name FROM ${ledgerSchema(POSTGRES)}.columns
       WHERE table_schema = $1 AND bridge = $2 AND stream = $3 AND role <> 'into')
     AND NOT EXISTS (SELECT FROM pg_stats AS s WHERE s.schemaname = n.nspname AND s.tablename = c.relname)`,
    [schema, bridge, stream],
  );
  for (const { name } of unknown)
    await on.run(`ANALYZE (SKIP_LOCKED) ${POSTGRES.tableName(schema, String(name))}`);
}
