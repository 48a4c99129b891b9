/** Faults × page rules × sign-ins: the tables equal the service's list, or the run says that they may not. */

import { join } from "node:path";
import { describe, expect, it } from "vitest";
import { connect, defineConnector, openBridge, type RunReport } from "../src/index.js";
import { duckdb } from "../src/warehouse/duckdb/index.js";
import { FAULTS, ITEMS, PAGES, SECRET, SIGN_INS, startCrooked } from "./support/crooked.js";
import { isLong } from "./support/long.js";
import { temporaryFolder } from "./support/project.js";
import { queryFile } from "./support/truth.js";
import { whenDone } from "./support/when-done.js";

const ALL = Object.keys(FAULTS).flatMap((fault) =>
  Object.keys(PAGES).flatMap((pages) =>
    Object.keys(SIGN_INS).map((signIn) => [fault, pages, signIn] as const),
  ),
);
const KINDS = Object.keys(SIGN_INS).length;
/** Faults over page rules, with sign-ins in turn: of every sixth pair one; an eighth of all where there is time. */
const cases = ALL.filter((_, i) =>
  isLong ? (i + Math.floor(i / KINDS)) % 8 === 0 : i % (6 * KINDS + 1) === 0,
);

async function carry(fault: string, pages: string, signIn: string, times: number) {
  const service = await startCrooked(FAULTS[fault]!, times);
  const connector = defineConnector({
    connector: "crooked",
    settings: { secret: { type: "string", secret: true } },
    api: { url: service.url, sign_in: SIGN_INS[signIn]!(service.url), rate_limit: { concurrency: 1 } },
    streams: { s: { get: "/s", records: "$.items[*]", key: "id", pages: PAGES[pages] } },
  });
  const api = connect(connector, { secret: SECRET }, { retry: { baseMs: 1 } });
  whenDone(() => api.close());
  const path = join(temporaryFolder(), "crooked.duckdb");
  const to = duckdb(path);
  const streams = { s: { write: "upsert" } } as const;
  const open = () =>
    openBridge({ from: api, to, name: "b", schema: "main", streams, checkpoint: { rows: 1 } });
  return { service, path, run: async () => (await open()).run() };
}

const told = ({ outcome, error }: RunReport) => `${outcome} ${error?.code ?? ""}`.trim();

describe("a fault that passes", () => {
  it.each(cases)("(%s, pages by %s, signed in by %s) leaves the tables equal to the list", async (...of) => {
    const { service, path, run } = await carry(...of, 1);
    const report = await run();
    expect(told(report), report.error?.message).toBe("done");
    expect(service.faults()).toBe(1);
    const rows = await queryFile(path, "SELECT id::INTEGER AS id, name FROM s ORDER BY id");
    expect(rows).toEqual(ITEMS);
    expect(JSON.stringify(await queryFile(path, "SELECT * FROM early_bridge.checkpoints"))).not.toContain(
      SECRET,
    );
  });
});

describe("a fault that stays", () => {
  // the sign-in makes no difference to what is told; a refusal that stays is a limit, and is waited for
  const all = isLong ? ALL.filter(([, , signIn]) => signIn === "none") : cases;
  const staying = all.filter(([fault]) => fault !== "a stray refusal");
  it.each(staying)(
    "(%s, pages by %s, signed in by %s) is told, and the next run goes on",
    async (fault, pages, signIn) => {
      const { path, run } = await carry(fault, pages, signIn, 9);
      const report = await run();
      expect(told(report)).toMatch(/^(failed|incomplete) [A-Z_]+$/);
      expect(report.error?.hint).not.toBe("");
      // what came before is in; when the fault is over, the rest comes
      let last = report;
      for (let runs = 0; runs < 4 && last.outcome !== "done"; runs++) last = await run();
      expect(told(last)).toBe("done");
      const rows = await queryFile(path, "SELECT id::INTEGER AS id, name FROM s ORDER BY id");
      expect(rows).toEqual(ITEMS);
    },
  );
});
