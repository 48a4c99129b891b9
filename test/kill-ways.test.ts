/**
 * Kills in the other ways of asking and writing: a table that is replaced, windows of time, parts with a cursor each,
 * and checkpoints by time.
 */

import { writeFileSync } from "node:fs";
import { join } from "node:path";
import { describe, expect } from "vitest";
import { KILLS, killedRun, killMoment } from "./support/kill.js";
import { inLong } from "./support/long.js";
import { command, temporaryFolder } from "./support/project.js";
import { serve } from "./support/serve.js";
import { queryFile } from "./support/truth.js";

const MOMENTS = Number(KILLS ?? 5);
const SEED = 20_261_125;
const HUTS = ["alm", "grat", "see"];
const SIZE = 20;
const BEGAN = Date.UTC(2026, 0, 1);
const DAY = 86_400_000;

interface Stay {
  readonly id: number;
  readonly hut: string;
  /** RFC 3339 */
  readonly at: string;
  readonly nights: readonly { readonly n: number }[];
}

const stay = (id: number, atMs: number): Stay => ({
  id,
  hut: HUTS[id % HUTS.length]!,
  at: new Date(atMs).toISOString(),
  nights: Array.from({ length: id % 3 }, (_, n) => ({ n })),
});

/** Stays of forty days; every `tick` changes some, adds some, and takes one away. */
class House {
  list = Array.from({ length: 240 }, (_, id) => stay(id, BEGAN + id * (DAY / 6)));
  /** those that are gone stay where a stream is no replacement */
  readonly everyId = new Map(this.list.map((each) => [each.id, each]));
  private ticks = 0;

  tick(): void {
    this.ticks++;
    const nowMs = BEGAN + 40 * DAY + this.ticks * 60_000;
    const changed = [3, 40, 77].map((id) => stay((id + this.ticks * 7) % 200, nowMs));
    const added = [0, 1].map((n) => stay(240 + this.ticks * 2 + n, nowMs));
    for (const each of [...changed, ...added]) this.everyId.set(each.id, each);
    const gone = 200 + this.ticks;
    this.list = [...this.everyId.values()].filter(({ id }) => id >= 240 || id < 200 || id > gone);
  }

  answer(url: URL): readonly Stay[] {
    const bound = (name: string, otherwise: number) => {
      const text = url.searchParams.get(name);
      return text === null ? otherwise : Date.parse(text);
    };
    const from = Math.max(bound("from", 0), bound("since", 0));
    const to = bound("to", Number.POSITIVE_INFINITY);
    const hut = /^\/huts\/(\w+)\/stays$/.exec(url.pathname)?.[1];
    const page = Number(url.searchParams.get("page"));
    const held = url.pathname === "/now" ? this.list : [...this.everyId.values()];
    return held
      .filter((each) => hut === undefined || each.hut === hut)
      .filter(({ at }) => from <= Date.parse(at) && Date.parse(at) < to)
      .sort((a, b) => (a.at < b.at ? -1 : a.at > b.at ? 1 : a.id - b.id))
      .slice((page - 1) * SIZE, page * SIZE);
  }
}

const CONNECTOR = (url: string) => `
connector: house
api: { url: "${url}", sign_in: none, rate_limit: { concurrency: 2 } }
streams:
  now: { get: /now, key: id, pages: { number: 1, query: page } }
  spans:
    get: /spans
    key: id
    windows: { span: P5D, from: from, to: to, start: "2026-01-01", end: "2026-02-14", overlap: P5D }
    pages: { number: 1, query: page }
  by_hut:
    get: /huts/{hut}/stays
    each: { hut: [${HUTS.join(", ")}] }
    key: id
    cursor: { field: at, query: since }
    pages: { number: 1, query: page }
`;

const BRIDGES = `
accounts: { house: { connector: ./house.connector.yaml } }
warehouses: { local: { duckdb: ./stays.duckdb } }
bridges:
  house: { from: house, to: local, checkpoint: { rows: 60, every: PT0.1S }, streams: { now: { write: replace }, spans: {}, by_hut: {} } }
`;

const plain = (stays: Iterable<Stay>) =>
  [...stays]
    .flatMap(({ id, at, nights }) =>
      [...(nights.length === 0 ? [{ n: null }] : nights)].map(({ n }) => ({ id, at, n })),
    )
    .sort((a, b) => a.id - b.id || (a.n ?? 0) - (b.n ?? 0));

/** Root rows joined with their children. */
function tableOf(database: string, table: string) {
  return queryFile(
    database,
    `SELECT s.id::INTEGER AS id, strftime(s.at AT TIME ZONE 'UTC', '%Y-%m-%dT%H:%M:%S.%gZ') AS at, k.n::INTEGER AS n
     FROM house.${table} AS s LEFT JOIN house.${table}_nights AS k ON k.${table}_id = s.id ORDER BY s.id, n`,
  );
}

describe("a process that is killed while it replaces, reads windows or parts, or commits by time", () => {
  inLong(
    `loses no row and doubles none, at ${MOMENTS} moments`,
    async () => {
      const house = new House();
      let asked = 0;
      const url = await serve(({ url = "" }, response) => {
        asked++;
        response.end(JSON.stringify(house.answer(new URL(url, "http://huts.example"))));
      });
      const newProject = () => {
        const folder = temporaryFolder();
        writeFileSync(join(folder, "house.connector.yaml"), CONNECTOR(url));
        writeFileSync(join(folder, "bridges.yaml"), BRIDGES);
        return { folder, database: join(folder, "stays.duckdb") };
      };
      let project = newProject();
      let killed = 0;
      for (let moment = 0; moment < MOMENTS; moment++) {
        if (moment % 5 === 0) project = newProject();
        const most = moment % 5 === 0 ? 60 : 30;
        if (await killedRun(project, () => asked, killMoment(SEED, moment, most, 60))) killed++;
        const again = await command(["run", "--plain"], project.folder);
        expect(again, `moment ${moment}: ${again.stdout}${again.stderr}`).toMatchObject({ code: 0 });
        expect(await tableOf(project.database, "now"), `moment ${moment}`).toEqual(plain(house.list));
        for (const table of ["spans", "by_hut"])
          expect(await tableOf(project.database, table), `${table}, moment ${moment}`).toEqual(
            plain(house.everyId.values()),
          );
        house.tick();
      }
      expect(killed).toBeGreaterThan(MOMENTS / 2);
    },
    MOMENTS * 30_000,
  );
});
