/** Loads of a stream by itself, without an API: runs of checkpoints of pages of records. */

import { join } from "node:path";
import { expect } from "vitest";
import type { ConnectorInput } from "../../src/core/define/connector-input.js";
import type { DeleteMode, WriteMode } from "../../src/core/define/project-schema.js";
import { WRITE_METHODS } from "../../src/core/define/write-method.js";
import { compileStream } from "../../src/core/stream/compile-stream.js";
import { defineConnector } from "../../src/index.js";
import { openTables } from "../../src/run/open-tables.js";
import { STAGE_SIZES } from "../../src/warehouse/duckdb/stage-sizes.js";
import { addCounts, NO_ROWS, type RowCounts } from "../../src/warehouse/row-counts.js";
import { temporaryFolder } from "./project.js";
import { warehouseAt } from "./warehouse.js";

type StreamInput = NonNullable<ConnectorInput["streams"]>[string];
/** checkpoints of pages of records */
export type RunOfRecords = readonly (readonly (readonly unknown[])[])[];

export const HOUR_MS = 3_600_000;

export interface LoadsOptions {
  readonly stream?: Partial<StreamInput>;
  readonly write: WriteMode;
  readonly deletes?: DeleteMode;
}

/** Loads all runs into a file, run n at n hours; every record has to be accounted for. */
export async function loadRuns(all: readonly RunOfRecords[], { stream, write, deletes }: LoadsOptions) {
  const path = join(temporaryFolder(), "loads.duckdb");
  // half of them through files, a row or a few in each group
  const usual = { ...STAGE_SIZES };
  const records = all.flat(3).length;
  if (records % 2 === 0)
    Object.assign(STAGE_SIZES, {
      ...{ fewRows: 1, groupRows: 2, fileBytes: (records % 3) * 2000 },
      aheadRows: records % 4 === 0 ? 1 : 3,
    });
  const connector = defineConnector({
    connector: "c",
    api: { url: "https://api.huts.example" },
    streams: { s: { get: "/s", key: "id", gone: "record.gone", ...stream } as StreamInput },
  });
  const compiled = compileStream(connector, "s", connector.streams.s!);
  const method = WRITE_METHODS[write];
  const counts: RowCounts[] = [];
  const session = await warehouseAt(path).open();
  try {
    for (const [n, checkpoints] of all.entries()) {
      const startedAtMs = n * HOUR_MS;
      const run = await session.ledger.startRun({ bridge: "b", startedAtMs });
      session.ledger.letGo("b");
      const { load, shape } = await openTables(compiled, {
        ...{ session, run, bridge: "b", schema: "main", startedAtMs, cursors: undefined },
        write: method,
        deletes: deletes ?? method.deletes ?? "remove",
        rootTables: new Set(["s"]),
      });
      let sum = NO_ROWS;
      let version = -1;
      for (const [i, pages] of checkpoints.entries()) {
        for (const page of pages) {
          const shaped = shape.shapeRecords(page);
          expect(shaped.issues).toEqual([]);
          await load.add(shaped, version === shape.version ? undefined : shape.schema());
          version = shape.version;
        }
        const spent = { account: "a", byGroup: new Map() };
        const entry = { number: i + 1, cursors: new Map(), atMs: startedAtMs, spent };
        const last = i === checkpoints.length - 1;
        sum = addCounts(sum, (await (last ? load.finish(entry) : load.checkpoint(entry))).counts);
      }
      await load.close();
      const { added, changed, unchanged, removed, doubled } = sum;
      const told = method.buildsBeside ? 0 : removed;
      expect(added + changed + unchanged + told + doubled, JSON.stringify(sum)).toBe(
        checkpoints.flat(2).length,
      );
      counts.push(sum);
    }
  } finally {
    Object.assign(STAGE_SIZES, usual);
    await session.close();
  }
  return { path, counts };
}
