/**
 * Changes of tables that say IF [NOT] EXISTS, for a server that does not know these words there: the statement is sent
 * without them, and what the server then finds missing, or there already, is left out.
 */

import type { QueryError } from "mysql2";

/** MySQL error codes: a column, an index is there; one that is to be dropped is not. */
const IS_THERE: ReadonlySet<number> = new Set([1060, 1061]);
const IS_MISSING = 1091;

const IS_CHANGE = /^(?:ALTER TABLE|CREATE INDEX) /;
const WORDS = /\b(ADD COLUMN|CREATE INDEX|DROP INDEX) IF (?:NOT )?EXISTS\b/g;

/** @throws Error of the driver, where something else is wrong */
export async function runConditional(sql: string, query: (sql: string) => Promise<unknown>): Promise<void> {
  const plain = IS_CHANGE.test(sql) ? sql.replace(WORDS, "$1") : sql;
  const isConditional = plain !== sql;
  try {
    await query(plain);
  } catch (error) {
    const { errno = 0, message } = error as QueryError;
    if (!isConditional) throw error;
    if (IS_THERE.has(errno)) return;
    const rest = errno === IS_MISSING ? withoutDrop(sql, message) : sql;
    if (rest === sql) throw error;
    await runConditional(rest, query);
  }
}

/** The statement without what drops the index that the server names. */
function withoutDrop(sql: string, message: string): string {
  const name = /'(\w+)'/.exec(message)?.[1];
  return sql.replace(new RegExp(`DROP INDEX IF EXISTS "?${name}"?, `), "");
}
