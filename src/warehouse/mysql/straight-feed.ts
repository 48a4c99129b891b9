/** Rows that go straight into a table by LOAD DATA: the lines are those of a stage. */

import { LOADED_COLUMN, RUN_COLUMN } from "../../core/shape/own-columns.js";
import type { TableSchema } from "../../core/shape/table-shape.js";
import type { SqlDialect } from "../sql/dialect.js";
import { SEQUENCE_COLUMN, type StraightTarget } from "../sql/stage.js";
import type { StraightFeed } from "../sql/straight-table.js";
import type { MysqlConnection } from "./connection.js";
import { LoadRows } from "./load-rows.js";
import { filesRefused, loadStatement } from "./stage.js";

export function straightFeed(
  sql: SqlDialect,
  connection: MysqlConnection,
  { sqlName, run, loadedAtMs }: StraightTarget,
  { columns }: TableSchema,
): StraightFeed {
  const lines = LoadRows.lines();
  const set = [`${RUN_COLUMN} = ${run}`, `${LOADED_COLUMN} = ${sql.instant(loadedAtMs)}`];
  // the number of a record goes nowhere
  const statement = loadStatement(sqlName, `@${SEQUENCE_COLUMN}`, columns, set);
  return {
    add: (batch, firstSeq) => lines.add(batch, firstSeq, columns),
    get size() {
      return lines.size;
    },
    take: () => {
      const bytes = lines.take();
      return { forTable: bytes, kept: bytes };
    },
    send: async (bytes) => {
      if (!(await connection.load(statement, bytes))) throw filesRefused();
    },
  };
}
