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

interface Notes {
  readonly records: number;
  readonly signs: number;
  /** of a page */
  readonly size: number;
}

/** Carries them to a place twice, each time in a process of its own. */
async function carryTwice({ records, signs, size }: Notes, place: string, kind = "duckdb") {
  const carry = () =>
    new Promise<Carried>((done, failed) => {
      const address = `${url}/?records=${records}&signs=${signs}&size=${size}`;
      const child = fork(CARRIER, [address, place, kind]);
      child.once("message", (message) => done(message as Carried));
      child.once("exit", (code) => failed(new Error(`it ended with ${code}`)));
    });
  return [await carry(), await carry()];
}

async function heldIn(database: string, table: string) {
  const query = `SELECT count(*)::INTEGER AS n, sum(length(note))::DOUBLE AS signs FROM ${table}`;
  return (await queryFile(database, query))[0];
}

const NOTES: Notes = { records: 6000, signs: 12_000, size: 250 };
const TWICE = [
  { outcome: "done", counts: [6000, 0] },
  { outcome: "done", counts: [0, 6000] },
];

describe("long texts", () => {
  it("are committed before they weigh much, and found again as they stand", async () => {
    const database = join(temporaryFolder(), "carried.duckdb");
    const runs = await carryTwice(NOTES, database);
    expect(await heldIn(database, "texts.notes")).toEqual({ n: 6000, signs: 72_000_000 });
    expect(runs).toMatchObject(TWICE);
    for (const { checkpoints } of runs) expect(checkpoints).toBeGreaterThan(2);
  });

  it("are in small groups of a Parquet file, and found again there", async () => {
    const place = temporaryFolder();
    expect(await carryTwice(NOTES, place, "folder")).toMatchObject(TWICE);
    const file = join(place, "texts", "notes", "notes.parquet");
    expect(await heldIn(":memory:", `read_parquet('${file}')`)).toEqual({ n: 6000, signs: 72_000_000 });
    const query = `SELECT max(row_group_num_rows)::INTEGER AS most FROM parquet_metadata('${file}')`;
    // 16 MB of them are 1,398, and DuckDB hands them over by 2,048
    expect((await queryFile(":memory:", query))[0]?.most).toBeLessThanOrEqual(2 * 2048);
  });

  it.runIf(isLong).each<Notes>([
    { records: 60_000, signs: 3000, size: 1000 },
    { records: 12_000, signs: 20_000, size: 200 },
    { records: 1000, signs: 330_000, size: 10 },
  ])("$records of $signs signs take no more memory than others", { timeout: 120_000 }, async (notes) => {
    const database = join(temporaryFolder(), "carried.duckdb");
    const runs = await carryTwice(notes, database);
    const { records, signs } = notes;
    expect(await heldIn(database, "texts.notes")).toEqual({ n: records, signs: records * signs });
    for (const { peakMb } of runs) expect(peakMb).toBeLessThan(550);
  });
});
