/** A large set, read whole and then by changes, while a fifth of all responses fail and the process is killed. */

import { writeFileSync } from "node:fs";
import type { ServerResponse } from "node:http";
import { join } from "node:path";
import { describe, expect } from "vitest";
import { pickAt, randomAt } from "../src/standins/random.js";
import { KILLS, killedRun, killMoment } from "./support/kill.js";
import { inLong } from "./support/long.js";
import { command, temporaryFolder } from "./support/project.js";
import { serve } from "./support/serve.js";
import { queryFile } from "./support/truth.js";

const COUNT = 50_000;
const PAGE = 1000;
const MOMENTS = Number(KILLS ?? 4);
const FAILING = 0.2;
const SEED = 20_261_126;
const BEGAN = Date.UTC(2026, 0, 1);

const METADATA = `<Edmx Version="4.0"><DataServices><Schema Namespace="N">
  <ComplexType Name="Night"><Property Name="Day" Type="Edm.Date"/><Property Name="Price" Type="Edm.Decimal" Precision="9" Scale="2"/></ComplexType>
  <EntityType Name="Stay"><Key><PropertyRef Name="Id"/></Key>
    <Property Name="Id" Type="Edm.Int64" Nullable="false"/>
    <Property Name="Guest" Type="Edm.String"/>
    <Property Name="Paid" Type="Edm.Decimal" Precision="20" Scale="4"/>
    <Property Name="ChangedAt" Type="Edm.DateTimeOffset"/>
    <Property Name="Nights" Type="Collection(N.Night)"/>
  </EntityType>
  <EntityContainer Name="C"><EntitySet Name="Stays" EntityType="N.Stay"/></EntityContainer>
</Schema></DataServices></Edmx>`;

/** Ids that no float64 holds. */
const FIRST_ID = 9_007_199_254_740_993n;

function stay(index: number, changedMs: number, round: number) {
  return {
    Id: String(FIRST_ID + BigInt(index)),
    Guest: `${pickAt(["Ana", "O'Hara", "花子", 'Zoë "Z"'], SEED, index)} ${round}`,
    Paid: `${index * 10 + round}.${String(index % 10_000).padStart(4, "0")}`,
    ChangedAt: new Date(changedMs).toISOString(),
    Nights: Array.from({ length: index % 3 }, (_, n) => ({
      Day: `2026-02-0${n + 1}`,
      Price: `${index % 90}.50`,
    })),
  };
}

type Stay = ReturnType<typeof stay>;

class Service {
  readonly stays: Stay[] = Array.from({ length: COUNT }, (_, i) => stay(i, BEGAN + i * 1000, 0));
  requests = 0;
  private rounds = 0;

  tick(): void {
    const round = ++this.rounds;
    const nowMs = BEGAN + COUNT * 1000 + round * 60_000;
    for (let n = 0; n < 50; n++) {
      const index = Math.floor(randomAt(SEED + round, n) * COUNT);
      this.stays[index] = stay(index, nowMs + n, round);
    }
    this.stays.push(stay(this.stays.length, nowMs + 60, round));
  }

  answer(address: string, response: ServerResponse, origin: string): void {
    const turn = ++this.requests;
    const url = new URL(address, origin);
    const body = url.pathname.endsWith("/$metadata") ? METADATA : JSON.stringify(this.page(url, origin));
    if (randomAt(SEED, turn) >= FAILING) return void response.end(body);
    const late = '{"@odata.context":"c","value":[],"@odata.error":{"message":"gone"}}';
    switch (pickAt(["503", "cut", "drop", "page", "late"], SEED + 1, turn)) {
      case "503":
        return void response
          .writeHead(503, { "retry-after": "0" })
          .end('{"error":{"code":"busy","message":"wait"}}');
      case "cut":
        return void response.end(body.slice(0, Math.floor(body.length * 0.6)));
      case "drop":
        return void response.destroy();
      case "page":
        return void response.end("<html><title>Gateway</title></html>");
      default:
        return void response.end(url.pathname.endsWith("/$metadata") ? "<html></html>" : late);
    }
  }

  private page(url: URL, origin: string) {
    const since = /^ChangedAt ge (\S+)$/.exec(url.searchParams.get("$filter") ?? "")?.[1];
    const sinceMs = since === undefined ? 0 : Date.parse(since);
    const found = this.stays.filter((each) => Date.parse(each.ChangedAt) >= sinceMs);
    if (url.searchParams.get("$orderby") === "ChangedAt,Id")
      found.sort((a, b) =>
        a.ChangedAt < b.ChangedAt ? -1 : a.ChangedAt > b.ChangedAt ? 1 : a.Id < b.Id ? -1 : 1,
      );
    const from = Number(url.searchParams.get("$skiptoken") ?? 0);
    const next = new URLSearchParams(url.searchParams);
    next.set("$skiptoken", String(from + PAGE));
    const more = from + PAGE < found.length ? { "@odata.nextLink": `${origin}/odata/Stays?${next}` } : {};
    return { "@odata.count": found.length, value: found.slice(from, from + PAGE), ...more };
  }
}

const CONNECTOR = (url: string) => `
connector: stays
api: { url: "${url}/odata", sign_in: none, rate_limit: { concurrency: 2 } }
odata: {}
streams:
  stays: { set: Stays, cursor: { field: ChangedAt } }
`;
const BRIDGES = `
accounts: { stays: { connector: ./stays.connector.yaml } }
warehouses: { local: { duckdb: ./w.duckdb } }
bridges: { stays: { from: stays, to: local, checkpoint: { rows: ${PAGE * 3}, every: PT0.3S } } }
`;

/** Every cell of both tables, in one list of texts. */
async function cells(database: string): Promise<string[]> {
  const rows = await queryFile(
    database,
    `SELECT s.id::VARCHAR || '|' || guest || '|' || paid::VARCHAR || '|' || strftime(changed_at AT TIME ZONE 'UTC', '%Y-%m-%dT%H:%M:%S.%gZ')
       || '|' || coalesce(string_agg(n.day::VARCHAR || '=' || n.price::VARCHAR, ',' ORDER BY eb_position), '') AS cell
     FROM stays.stays AS s LEFT JOIN stays.stays_nights AS n ON n.stays_id = s.id GROUP BY s.id, guest, paid, changed_at`,
  );
  return rows.map(({ cell }) => String(cell)).sort();
}

const truth = (stays: readonly Stay[]) =>
  stays
    .map(({ Id, Guest, Paid, ChangedAt, Nights }) =>
      [Id, Guest, Paid, ChangedAt, Nights.map(({ Day, Price }) => `${Day}=${Price}`).join(",")].join("|"),
    )
    .sort();

describe("a large set of an OData service that fails a fifth of the time", () => {
  inLong(
    `is equal to what is behind it, cell by cell, after ${MOMENTS} kills`,
    async () => {
      const service = new Service();
      let origin = "";
      origin = await serve((request, response) => service.answer(request.url ?? "", response, origin));
      const folder = temporaryFolder();
      writeFileSync(join(folder, "stays.connector.yaml"), CONNECTOR(origin));
      writeFileSync(join(folder, "bridges.yaml"), BRIDGES);
      const project = { folder, database: join(folder, "w.duckdb") };
      let killed = 0;
      const pages = COUNT / PAGE;
      for (let moment = 0; moment < MOMENTS; moment++) {
        // some in the first reading of all, none of which comes to its end; the others while only changes are asked for
        const most = moment < MOMENTS / 2 ? pages / (MOMENTS / 2) : 2;
        if (await killedRun(project, () => service.requests, killMoment(SEED, moment, most, 30))) killed++;
        if (moment + 1 < MOMENTS / 2) continue;
        const again = await command(["run", "--plain"], folder);
        expect(again, `moment ${moment}: ${again.stdout}${again.stderr}`).toMatchObject({ code: 0 });
        const seen = await cells(project.database);
        const wanted = truth(service.stays);
        expect(seen.length, `moment ${moment}`).toBe(wanted.length);
        expect(seen.filter((cell, i) => cell !== wanted[i]).slice(0, 3), `moment ${moment}`).toEqual([]);
        service.tick();
      }
      expect(killed).toBeGreaterThan(MOMENTS / 3);
    },
    MOMENTS * 40_000,
  );
});
