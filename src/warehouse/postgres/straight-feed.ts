/** Rows that go straight into a table by binary COPY. */

import { LOADED_COLUMN, RUN_COLUMN } from "../../core/shape/own-columns.js";
import type { TableSchema } from "../../core/shape/table-shape.js";
import type { StraightTarget } from "../sql/stage.js";
import type { StraightFeed } from "../sql/straight-table.js";
import type { PostgresConnection } from "./connection.js";
import { asCopy, CopyRows } from "./copy-rows.js";
import { quoteName } from "./dialect.js";

export function straightFeed(
  connection: PostgresConnection,
  { sqlName, run, loadedAtMs }: StraightTarget,
  { columns }: TableSchema,
): StraightFeed {
  const waiting = CopyRows.forTable(loadedAtMs);
  const names = [RUN_COLUMN, ...columns.map(({ name }) => name), LOADED_COLUMN].map(quoteName).join(", ");
  return {
    add: (batch, firstSeq) => waiting.add(batch, firstSeq, columns),
    get size() {
      return waiting.size;
    },
    take: () => waiting.takeFor(run),
    send: (rows) => connection.copy(`COPY ${sqlName} (${names}) FROM STDIN (FORMAT binary)`, asCopy(rows)),
  };
}
