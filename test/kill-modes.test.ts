/** Kills in every way of writing, with every way of learning what is gone: the tables equal a slow model in memory. */

import { writeFileSync } from "node:fs";
import { join } from "node:path";
import { describe, expect } from "vitest";
import { KILLS, killedRun, killMoment } from "./support/kill.js";
import { inLong } from "./support/long.js";
import { command, temporaryFolder } from "./support/project.js";
import { serve } from "./support/serve.js";
import { changeFile, queryFile } from "./support/truth.js";
import {
  isFolders,
  isPostgres,
  isServer,
  namedFor,
  onWarehouse,
  warehouseEntry,
} from "./support/warehouse.js";

const MOMENTS = Number(KILLS ?? (isServer || isFolders ? 2 : 4));
const SEED = 20_261_126;
const PAGE = 25;

interface State {
  readonly id: number;
  /** RFC 3339: since when the record is so */
  readonly at: string;
  readonly nights: readonly { readonly n: number }[];
  readonly gone?: true;
}

const stateOf = (id: number, minute: number): State => ({
  id,
  at: new Date(Date.UTC(2026, 0, 1) + minute * 60_000).toISOString().replace(".000", ""),
  nights: Array.from({ length: (id + minute) % 3 }, (_, n) => ({ n: n + minute })),
});

/** Records that change, go and come back from tick to tick; all that ever was of each of them is known. */
class House {
  readonly history = new Map(
    Array.from({ length: 120 }, (_, id) => [id, [stateOf(id, 0)]] as [number, State[]]),
  );
  private minute = 1;

  tick(): void {
    const n = this.minute++;
    for (const id of [n % 120, (n * 7) % 120]) this.put(stateOf(id, n * 10));
    this.put(stateOf(120 + n, n * 10 + 1));
    const { at } = stateOf(0, n * 10 + 2);
    for (const id of [(n * 11) % 120, 120 + n - 2])
      if (this.now(id) !== undefined && this.now(id)!.at < at) this.put({ id, at, nights: [], gone: true });
    // the one that went two ticks ago comes back
    const back = ((n - 2) * 11) % 120;
    if (n > 2 && this.now(back)?.gone === true) this.put(stateOf(back, n * 10 + 3));
  }

  private now(id: number): State | undefined {
    return this.history.get(id)?.at(-1);
  }

  private put(state: State): void {
    const known = this.history.get(state.id) ?? [];
    if (known.at(-1)?.at === state.at) return;
    this.history.set(state.id, [...known, state]);
  }

  /** The last word on each record, oldest first; of those that live, or of all. */
  last(withGone: boolean): State[] {
    return [...this.history.values()]
      .map((states) => states.at(-1)!)
      .filter(({ gone }) => withGone || gone !== true)
      .sort((a, b) => (a.at < b.at ? -1 : a.at > b.at ? 1 : a.id - b.id));
  }

  answer({ pathname, searchParams }: URL) {
    const since = searchParams.get("since") ?? "";
    const found = this.last(pathname === "/changes").filter(({ at }) => at >= since.replace(".000", ""));
    const from = Number(searchParams.get("after") ?? 0);
    const next = from + PAGE < found.length ? String(from + PAGE) : undefined;
    return { total: found.length, items: found.slice(from, from + PAGE), next };
  }
}

/** Streams by name: told of what is gone, or swept; written in one of the ways. */
const WAYS = {
  removed: { write: "upsert", deletes: "remove" },
  marked: { write: "upsert", deletes: "mark" },
  versions: { write: "versions" },
  versions_removed: { write: "versions", deletes: "remove" },
  append: { write: "append" },
  replace: { write: "replace" },
} as const;
const BY = ["told", "swept"] as const;
type Way = keyof typeof WAYS;
const names = BY.flatMap((by) =>
  (Object.keys(WAYS) as Way[]).map((way) => ({ by, way, name: `${by}_${way}` })),
);

/** A stream into a table that stands already; a folder has none. */
const STANDS = "stays_book";
const INTO = { write: "upsert", deletes: "remove", into: { table: STANDS } } as const;

/** Makes that table, as its owner would. */
async function makeTable(database: string): Promise<void> {
  const [schema] = (await namedFor(database, "house.x")).split(".");
  const isMariadb = isServer && !isPostgres;
  const [at, nights] = isMariadb ? ["DATETIME(6)", "LONGTEXT"] : ["TIMESTAMPTZ", "JSON"];
  const table = `CREATE TABLE house.${STANDS} (id BIGINT PRIMARY KEY, "at" ${at}, nights ${nights})`;
  for (const statement of [`CREATE SCHEMA ${schema}`, table])
    await (isServer ? onWarehouse(database, statement) : changeFile(database, statement));
}

const STANDS_QUERY = `SELECT '${STANDS}' AS name,
    id || ' ' || strftime(b.at AT TIME ZONE 'UTC', '%Y-%m-%dT%H:%M:%SZ') || ' ' || coalesce((SELECT string_agg(n, ',' ORDER BY n::INTEGER)
      FROM (SELECT unnest(from_json(nights::JSON, '[{"n":"VARCHAR"}]')).n AS n)), '') || ' now' AS line
  FROM house.${STANDS} AS b`;

function projectFiles(
  url: string,
  { entry, env }: Awaited<ReturnType<typeof warehouseEntry>>,
): Record<string, string> {
  const stream = (by: (typeof BY)[number]) => ({
    get: by === "told" ? "/changes" : "/living",
    key: "id",
    records: "$.items[*]",
    pages: { token: "$.next", query: "after", total: "$.total" },
    cursor: { field: "at", query: "since" },
    ...(by === "told" ? { gone: "has(record.gone)" } : { sweep: { every: "PT0S", share: 0.5 } }),
  });
  return {
    ".env": env,
    "house.connector.yaml": JSON.stringify({
      connector: "house",
      api: { url, sign_in: "none", rate_limit: { concurrency: 4 } },
      streams: {
        ...Object.fromEntries(names.map(({ by, name }) => [name, stream(by)])),
        ...(isFolders ? {} : { [STANDS]: stream("told") }),
      },
    }),
    "bridges.yaml": JSON.stringify({
      accounts: { house: { connector: "./house.connector.yaml" } },
      warehouses: { local: entry },
      bridges: {
        house: {
          from: "house",
          to: "local",
          checkpoint: { rows: 40 },
          streams: {
            ...Object.fromEntries(names.map(({ way, name }) => [name, WAYS[way]])),
            ...(isFolders ? {} : { [STANDS]: INTO }),
          },
        },
      },
    }),
  };
}

/** What a table must hold, as lines: id, since when, its nights, and whether it holds now, has ended, or is gone. */
function model(house: House, by: (typeof BY)[number], way: Way): string[] {
  const line = ({ id, at, nights }: State, is: string) =>
    `${id} ${at} ${nights.map(({ n }) => n).join(",")} ${is}`;
  return [...house.history.values()].flatMap((all) => {
    const isGone = all.at(-1)!.gone === true;
    const states = all.filter(({ gone }) => gone !== true);
    const last = states.at(-1)!;
    switch (way) {
      case "removed":
      case "replace":
        return isGone ? [] : [line(last, "now")];
      case "marked":
        return [line(last, isGone ? "gone" : "now")];
      case "append":
        return (by === "told" ? all : states).map((each) => line(each, "now"));
      case "versions_removed":
        // with a record, all that was known of it goes
        return isGone ? [] : sinceGone(all).map((each) => line(each, each === last ? "now" : "ended"));
      default:
        return states.map((each) => {
          const next = all[all.indexOf(each) + 1];
          return line(each, next === undefined ? "now" : next.gone === true ? "gone" : "ended");
        });
    }
  });
}

const sinceGone = (all: readonly State[]) => all.slice(all.findLastIndex(({ gone }) => gone === true) + 1);

/** A table's rows in such lines. */
function linesQuery(name: string, way: Way): string {
  const isVersioned = way.startsWith("versions");
  const versions = isVersioned ? "AND k.eb_valid_from = s.eb_valid_from" : "";
  const states = way === "append" ? "AND k.eb_state = s.eb_state" : "";
  const hasMark = isVersioned || way === "marked";
  const is = `CASE ${hasMark ? "WHEN s.eb_deleted_at IS NOT NULL THEN 'gone'" : ""}
    ${isVersioned ? "WHEN s.eb_valid_to IS NOT NULL THEN 'ended'" : ""} ELSE 'now' END`;
  return `SELECT '${name}' AS name,
       s.id || ' ' || strftime(s.at AT TIME ZONE 'UTC', '%Y-%m-%dT%H:%M:%SZ') || ' ' ||
       coalesce((SELECT string_agg(k.n::VARCHAR, ',' ORDER BY k.n) FROM house.${name}_nights AS k
         WHERE k.${name}_id = s.id ${versions} ${states}), '') || ' ' || ${hasMark || isVersioned ? is : "'now'"} AS line
     FROM house.${name} AS s`;
}

/** All tables at once: a server's are copied for each query. */
async function allLines(database: string): Promise<Record<string, string[]>> {
  const queries = [
    ...names.map(({ name, way }) => linesQuery(name, way)),
    ...(isFolders ? [] : [STANDS_QUERY]),
  ];
  const rows = await queryFile(database, queries.join(" UNION ALL "));
  const of = (name: string) => rows.filter((row) => row.name === name).map((row) => String(row.line));
  return Object.fromEntries(
    [...names.map(({ name }) => name), STANDS].map((name) => [name, of(name).sort()]),
  );
}

/** What they must hold. */
function allModels(house: House): Record<string, string[]> {
  const own = names.map(({ by, way, name }) => [name, model(house, by, way).sort()] as const);
  const stands = isFolders ? [] : model(house, "told", "removed");
  return Object.fromEntries([...own, [STANDS, stands.sort()]]);
}

describe("a process that is killed, whatever way it writes and learns what is gone", () => {
  inLong(
    `leaves tables that equal the model, at ${MOMENTS} moments`,
    async () => {
      const house = new House();
      let asked = 0;
      const url = await serve(({ url: path = "" }, response) => {
        asked++;
        response.end(JSON.stringify(house.answer(new URL(path, "http://huts.example"))));
      });
      const folder = temporaryFolder();
      const database = join(folder, "stays.duckdb");
      for (const [name, text] of Object.entries(projectFiles(url, await warehouseEntry(database))))
        writeFileSync(join(folder, name), text, { mode: 0o600 });
      if (!isFolders) await makeTable(database);
      let killed = 0;
      for (let moment = 0; moment < MOMENTS; moment++) {
        if (await killedRun({ folder }, () => asked, killMoment(SEED, moment, 30, 80))) killed++;
        // a server may not know yet that the one before is dead
        const again = await command(["run", "--plain", "--wait"], folder);
        expect(again, `moment ${moment}: ${again.stdout}${again.stderr}`).toMatchObject({ code: 0 });
        expect(await allLines(database), `moment ${moment}`).toEqual(allModels(house));
        house.tick();
      }
      expect(killed).toBeGreaterThan(MOMENTS / 3);
    },
    60_000 + MOMENTS * 40_000,
  );
});
