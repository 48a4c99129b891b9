/** Long texts on their way into DuckDB: what they take in memory does not grow with their number or length. */

import { fork } from "node:child_process";
import { randomBytes } from "node:crypto";
import { createServer, type Server } from "node:http";
import { join } from "node:path";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { isLong } from "./support/long.js";
import { temporaryFolder } from "./support/project.js";
import { queryFile } from "./support/truth.js";

const CARRIER = join(import.meta.dirname, "support", "carry-texts.mjs");

let server: Server;
let url: string;

beforeAll(async () => {
  server = createServer((request, response) => {
    const query = new URL(request.url!, "http://huts.example").searchParams;
    const [page, records, signs, size] = ["page", "records", "signs", "size"].map((n) =>
      Number(query.get(n)),
    );
    const from = (page! - 1) * size!;
    const items = Array.from({ length: Math.max(0, Math.min(size!, records! - from)) }, (_, n) => ({
      id: from + n,
      note: textOf(from + n, signs!),
    }));
    response.end(JSON.stringify(items));
  });
  await new Promise<void>((ready) => server.listen(0, "127.0.0.1", ready));
  url = `http://127.0.0.1:${(server.address() as { port: number }).port}`;
});

afterAll(() => server.close());

const POOL = randomBytes(6_000_000).toString("base64");

/** Signs that hardly pack, others for each record. */
function textOf(id: number, signs: number): string {
  const at = (id * 7919) % (POOL.length - signs);
  return POOL.slice(at, at + signs);
}

interface Carried {
  readonly outcome: string;
  readonly counts: readonly number[];
  readonly checkpoints: number;
  readonly peakMb: number;
}

/** Carries them twice, each time in a process of its own. */
async function carryTwice(records: number, signs: number, size: number) {
  const database = join(temporaryFolder(), "carried.duckdb");
  const carry = () =>
    new Promise<Carried>((done, failed) => {
      const child = fork(CARRIER, [`${url}/?records=${records}&signs=${signs}&size=${size}`, database]);
      child.once("message", (message) => done(message as Carried));
      child.once("exit", (code) => failed(new Error(`it ended with ${code}`)));
    });
  const runs = [await carry(), await carry()];
  const [held] = await queryFile(
    database,
    "SELECT count(*)::INTEGER AS n, sum(length(note))::DOUBLE AS signs FROM texts.notes",
  );
  return { runs, held };
}

describe("long texts", () => {
  it("are committed before they weigh much, and found again as they stand", async () => {
    const { runs, held } = await carryTwice(6000, 12_000, 250);
    expect(held).toEqual({ n: 6000, signs: 72_000_000 });
    expect(runs).toMatchObject([
      { outcome: "done", counts: [6000, 0] },
      { outcome: "done", counts: [0, 6000] },
    ]);
    for (const { checkpoints } of runs) expect(checkpoints).toBeGreaterThan(2);
  });

  it.runIf(isLong).each([
    [60_000, 3000, 1000],
    [12_000, 20_000, 200],
    [1000, 330_000, 10],
  ])("%i of %i signs take no more memory than others", { timeout: 120_000 }, async (records, signs, size) => {
    const { runs, held } = await carryTwice(records, signs, size);
    expect(held).toEqual({ n: records, signs: records * signs });
    for (const { peakMb } of runs) expect(peakMb).toBeLessThan(550);
  });
});
