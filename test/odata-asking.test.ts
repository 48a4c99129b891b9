/** Ways to ask for large OData sets: by the key, in ranges of it, and what services make of each. */

import { describe, expect, it } from "vitest";
import { bridgeInto } from "./support/carried.js";
import { allRecords, failure, fixedService, HUT, HUTS, openOData, schemaOf } from "./support/odata.js";
import { odataStranger } from "./support/odata-stranger.js";
import { temporaryFolder } from "./support/project.js";
import { serve } from "./support/serve.js";
import { queryFile } from "./support/truth.js";

const COUNT = 230;

const huts = Array.from({ length: COUNT }, (_, n) => ({
  Number: 7000 + n,
  Title: `O'Hara ${n}`,
  ChangedAt: n % 7 === 0 ? null : `2026-01-${String((n % 28) + 1).padStart(2, "0")}T00:00:00.000Z`,
}));
const deliveries = Array.from({ length: COUNT }, (_, n) => ({
  Number: `N${String(Math.floor(n / 10)).padStart(3, "0")}`,
  Line: n % 10,
  ItemCode: "X",
  ArrivedAt: "/Date(1767225600000)/",
  ChangedAt: "/Date(1767225600000+0060)/",
  Opens: "PT8H",
  Kilos: "1.500",
  Pieces: "7",
}));

const countIn = async (path: string, table: string) =>
  (await queryFile(path, `SELECT count(*)::INTEGER AS n FROM ${table}`))[0]?.n;

describe("pages by the key", () => {
  it("give all entities of a stranger's set, those without a value of the cursor's field too", async () => {
    const { url, log } = await odataStranger("huts.v4.xml", { Huts: huts });
    const path = `${temporaryFolder()}/keyset.duckdb`;
    const pages = { keyset: true, size: { records: 50 } } as const;
    const streams = { huts: { set: "Huts", pages, cursor: { field: "ChangedAt", overlap: "PT0S" } } };
    const bridge = await bridgeInto(path, openOData(url, { streams }));
    expect((await bridge.run()).streams[0]).toMatchObject({ outcome: "done", added: COUNT, pages: 6 });
    expect(await countIn(path, "huts")).toBe(COUNT);
    const filters = log.map((line) => new URLSearchParams(line.split("?")[1]).get("$filter"));
    expect(filters.filter((each) => each !== null)).toContain("Number gt 7049");
    expect(log.at(-1)).toContain("$orderby=Number&$count=true&$top=50");
    const before = log.length;
    expect((await bridge.run()).outcome).toBe("done");
    const again = log.slice(before).map((line) => new URLSearchParams(line.split("?")[1]).get("$filter"));
    expect(again).toEqual([
      "ChangedAt ge 2026-01-28T00:00:00.000Z",
      expect.stringMatching(/^ChangedAt ge 2026-01-28T00:00:00.000Z and Number gt \d+$/),
    ]);
  });

  it("go by all parts of a key, in the literals of 2.0", async () => {
    const { url, log } = await odataStranger("stores.v2.xml", { Deliveries: deliveries, Items: [] });
    const path = `${temporaryFolder()}/keyset2.duckdb`;
    const pages = { keyset: true, size: { records: 64 } } as const;
    const bridge = await bridgeInto(path, openOData(url, { streams: { d: { set: "Deliveries", pages } } }));
    expect((await bridge.run()).streams[0]).toMatchObject({ outcome: "done", received: COUNT });
    expect(await countIn(path, "d")).toBe(COUNT);
    expect(log.at(-1)).toContain("$filter=(Number gt 'N0");
    expect(log.at(-1)).toMatch(/\) or \(Number eq 'N\d+' and Line gt \d+\)/);
  });

  it("of a service that does not sort, or does not filter, are no whole set, and that is said", async () => {
    const hut = (Id: number) => ({ Id, Title: "A" });
    const pages = { keyset: true, size: { records: 2 } } as const;
    const streams = { huts: { set: "Huts", pages } };
    const unsorted = await fixedService(schemaOf(HUT, HUTS), {
      "/Huts?$orderby=Id&$top=2": { value: [hut(5), hut(3)] },
    });
    expect(await failure(allRecords(openOData(unsorted.url, { streams }), "huts"))).toMatchObject({
      code: "RESPONSE_UNLIKE",
      message: "The service does not sort by Id as it was asked to: 5 comes before 3.",
    });
    const page = { value: [hut(1), hut(2)] };
    const unfiltered = await fixedService(schemaOf(HUT, HUTS), {
      "/Huts?$orderby=Id&$top=2": page,
      "/Huts?$orderby=Id&$top=2&$filter=Id gt 2": page,
    });
    expect(await failure(allRecords(openOData(unfiltered.url, { streams }), "huts"))).toMatchObject({
      code: "PAGE_REPEATED",
    });
    const keyless = schemaOf('<ComplexType Name="Hut"/>', HUTS);
    const { url } = await fixedService(keyless, {});
    expect(await failure(allRecords(openOData(url, { streams }), "huts"))).toMatchObject({
      code: "CONFIG_INVALID",
      message: "pages.keyset is for sets with a key, and this one has none.",
    });
  });
});

describe("ranges of the key", () => {
  const each = { ids: { ranges: 4 } };

  it("are found once, hold the whole set, and keep their cursors", async () => {
    const { url, log } = await odataStranger("huts.v4.xml", { Huts: huts });
    const path = `${temporaryFolder()}/ranges.duckdb`;
    const streams = { huts: { set: "Huts", each, cursor: { field: "ChangedAt", overlap: "PT0S" } } };
    const bridge = await bridgeInto(path, openOData(url, { streams }));
    expect((await bridge.run()).streams[0]).toMatchObject({ outcome: "done", added: COUNT, parts: 4 });
    expect(await countIn(path, "huts")).toBe(COUNT);
    // the total, three bounds, four ranges, and the total again
    expect(log.filter((line) => line.includes("$skip="))).toHaveLength(9);
    const ranges = log.flatMap((line) => new URLSearchParams(line.split("?")[1]).get("$filter") ?? []);
    expect(ranges).toContain("Number ge 7057 and Number lt 7115");
    const before = log.length;
    expect((await bridge.run()).streams[0]).toMatchObject({ outcome: "done", added: 0, parts: 4 });
    expect(log.slice(before).filter((line) => line.includes("$skip="))).toEqual([]);
    expect(log.at(-1)).toContain("ChangedAt ge 2026-01-");
  });

  it("are none where the service does not filter by them", async () => {
    const hut = (Id: number) => ({ Id, Title: "A" });
    const at = (n: number, count: number, filter = "") => [
      `/Huts?$orderby=Id&$top=1&$skip=${n}${filter && `&$filter=${filter}`}`,
      { "@odata.count": count, value: [hut(n + 1)] },
    ];
    const { url } = await fixedService(schemaOf(HUT, HUTS), {
      "/Huts": { "@odata.count": 4, value: [1, 2, 3, 4].map(hut) },
      ...Object.fromEntries([0, 1, 2, 3].map((n) => at(n, 4))),
      ...Object.fromEntries(
        ["Id lt 2", "Id ge 2 and Id lt 3", "Id ge 3 and Id lt 4", "Id ge 4"].map((each) => at(0, 0, each)),
      ),
    });
    const path = `${temporaryFolder()}/lies.duckdb`;
    const bridge = await bridgeInto(path, openOData(url, { streams: { huts: { set: "Huts", each } } }));
    const notices: string[] = [];
    const report = await bridge.run({ onEvent: (e) => e.type === "notice" && notices.push(e.message) });
    expect(report.streams[0]).toMatchObject({ outcome: "done", added: 4, parts: 1 });
    expect(notices).toEqual([
      "The service does not filter by Id as it was asked to: the ranges hold 0 of 4 entities. The set is read in one.",
    ]);
  });

  it("of a service that ignores $skip or $count are one, and the set is whole all the same", async () => {
    const hut = (Id: number) => ({ Id, Title: "A" });
    const streams = { huts: { set: "Huts", each } };
    const all = { "/Huts": { value: [1, 2, 3].map(hut) } };
    const { url } = await fixedService(schemaOf(HUT, HUTS), {
      ...all,
      "/Huts?$orderby=Id&$top=1&$skip=0": { value: [hut(1)] },
    });
    expect(await allRecords(openOData(url, { streams }), "huts")).toHaveLength(3);
    const first = { "@odata.count": 3, value: [hut(1)] };
    const skips = [0, 1, 2].map((n) => [`/Huts?$orderby=Id&$top=1&$skip=${n}`, first]);
    const other = await fixedService(schemaOf(HUT, HUTS), {
      ...Object.fromEntries(skips),
      "/Huts?$orderby=Id&$top=1&$skip=0&$filter=Id lt 1": { "@odata.count": 0, value: [] },
      "/Huts?$orderby=Id&$top=1&$skip=0&$filter=Id ge 1": first,
      "/Huts?$filter=Id lt 1": { value: [] },
      "/Huts?$filter=Id ge 1": { value: [1, 2, 3].map(hut) },
    });
    expect(await allRecords(openOData(other.url, { streams }), "huts")).toHaveLength(3);
  });
});

describe("an address that would be too long", () => {
  const properties = Array.from({ length: 120 }, (_, n) => `PropertyWithALongName${n}`);
  const inner = `<EntityType Name="Hut"><Key><PropertyRef Name="Id"/></Key><Property Name="Id" Type="Edm.Int32"/>
    ${properties.map((name) => `<Property Name="${name}" Type="Edm.Int32"/>`).join("")}</EntityType>`;
  const open = async (version: string, takesBodies: boolean) => {
    const asked: string[] = [];
    const origin = await serve((request, response, body) => {
      const url = decodeURIComponent(request.url ?? "");
      if (url.endsWith("$metadata")) return response.end(schemaOf(inner, HUTS, version));
      if (url.length > 2000) return response.writeHead(414).end("{}");
      const type = request.headers["content-type"] ?? "";
      asked.push(`${request.method} ${url} ${type} ${decodeURIComponent(body)}`);
      const isTaken = request.method === "GET" || takesBodies;
      response
        .writeHead(isTaken ? 200 : 405)
        .end(JSON.stringify({ value: [{ Id: 1, [properties[0]!]: 5 }] }));
    });
    const columns = { [properties[1]!]: { drop: true } };
    const api = openOData(`${origin}/odata`, { streams: { huts: { set: "Huts", columns } } });
    return { records: await allRecords(api, "huts"), asked };
  };

  it("goes in a body to a service of 4.01", async () => {
    const { records, asked } = await open("4.01", true);
    expect(records).toHaveLength(1);
    expect(asked).toEqual([
      expect.stringMatching(
        /^POST \/odata\/Huts\/\$query text\/plain \$select=Id,PropertyWithALongName0,PropertyWithALongName2,.*&\$count=true$/,
      ),
    ]);
  });

  it("is made shorter where that is refused, and before 4.01", async () => {
    expect((await open("4.01", false)).asked.at(-1)).toBe("GET /odata/Huts?$count=true  ");
    expect((await open("4.0", false)).asked).toEqual(["GET /odata/Huts?$count=true  "]);
  });
});
