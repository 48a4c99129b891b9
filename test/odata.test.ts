/** OData services: a server that nobody here wrote, and one of ours that pages, lies and breaks off. */

import { readFileSync } from "node:fs";
import { describe, expect, it } from "vitest";
import { parseYaml } from "../src/core/define/check.js";
import { checkConnector } from "../src/core/define/connector.js";
import { columnRuleOf } from "../src/core/odata/edm-type.js";
import { formatColumnType } from "../src/core/shape/column-type.js";
import { connect } from "../src/index.js";
import { bridgeInto } from "./support/carried.js";
import { allRecords, failure, type Input, openOData } from "./support/odata.js";
import { type Houses, odataHouse } from "./support/odata-house.js";
import { odataStranger } from "./support/odata-stranger.js";
import { temporaryFolder } from "./support/project.js";
import { serve } from "./support/serve.js";
import { queryFile } from "./support/truth.js";
import { whenDone } from "./support/when-done.js";

const MEMBERS = [
  {
    ID: "9007199254740993",
    Name: "Ana",
    Joined: "2020-02-29",
    ChangedAt: "2026-01-01T00:00:00.000Z",
    Fee: "12.50",
    Balance: "-0.125",
    Card: "0f8fad5b-d9cb-469f-a165-70867728950e",
    Status: "Active",
    Home: { Street: "Moor 3", Valley: "Firn" },
    Phones: [{ Kind: "home", Number: "012" }],
    Tags: ["cook", "guide"],
    ClubCode: "A",
  },
  {
    ID: "2",
    Name: "O'Hara",
    Joined: "2021-01-01",
    ChangedAt: "2026-01-03T10:00:00.000Z",
    Fee: "7.00",
    Balance: "12345678901234567890.5",
    Card: "1f8fad5b-d9cb-469f-a165-70867728950e",
    Status: "Left",
    Home: { Street: "Ridge 1", Valley: "Scree" },
    Phones: [],
    Tags: [],
    ClubCode: "B",
  },
];

describe("a stranger that speaks 4.0", () => {
  const data = {
    Members: MEMBERS,
    Clubs: [
      { Code: "A", Title: "Alpine" },
      { Code: "B", Title: "Bog" },
    ],
  };

  it("is read by its address alone: tables, keys and types come from its metadata", async () => {
    const { url, log } = await odataStranger("members.v4.xml", data);
    const path = `${temporaryFolder()}/v4.duckdb`;
    const report = await (await bridgeInto(path, openOData(url))).run();
    expect(report).toMatchObject({ outcome: "done" });
    expect(report.streams.map(({ stream, added }) => [stream, added])).toEqual([
      ["members", 2],
      ["clubs", 2],
    ]);
    const types = await queryFile(
      path,
      "SELECT column_name AS c, data_type AS t FROM information_schema.columns WHERE table_name = 'members' AND table_schema = 'main'",
    );
    expect(Object.fromEntries(types.map(({ c, t }) => [c, t]))).toMatchObject({
      id: "BIGINT",
      joined: "DATE",
      changed_at: "TIMESTAMP WITH TIME ZONE",
      fee: "DECIMAL(12,2)",
      card: "UUID",
      home_valley: "VARCHAR",
      tags: "JSON",
    });
    expect(
      await queryFile(
        path,
        "SELECT id::VARCHAR AS id, fee::VARCHAR AS fee, balance::VARCHAR AS b, home_valley AS v FROM members ORDER BY name",
      ),
    ).toEqual([
      { id: "9007199254740993", fee: "12.50", b: "-0.125", v: "Firn" },
      { id: "2", fee: "7.00", b: "12345678901234567890.500", v: "Scree" },
    ]);
    expect(await queryFile(path, "SELECT members_id::VARCHAR AS id, kind FROM members_phones")).toEqual([
      { id: "9007199254740993", kind: "home" },
    ]);
    expect(log[0]).toBe("/huts/odata/$metadata");
    expect(log.find((line) => line.startsWith("/huts/odata/Members"))).toBe(
      "/huts/odata/Members?$select=ID,Name,Joined,ChangedAt,Fee,Balance,Card,Status,Home,Phones,Tags,ClubCode&$count=true",
    );
  });

  it("is asked for changes by a filter with the right literal, beside the stream's own", async () => {
    const { url, log } = await odataStranger("members.v4.xml", data);
    const path = `${temporaryFolder()}/v4.duckdb`;
    const streams = {
      members: {
        set: "Members",
        query: { $filter: "Name ne 'Neil'" },
        cursor: { field: "ChangedAt", overlap: "PT0S" },
      },
    };
    const api = openOData(url, { streams });
    const bridge = await bridgeInto(path, api);
    expect((await bridge.run()).streams[0]).toMatchObject({
      added: 2,
      cursor: expect.stringContaining("2026-01-03"),
    });
    expect((await bridge.run()).streams[0]).toMatchObject({ outcome: "done", unchanged: 1, received: 1 });
    const filters = log.map((line) => new URLSearchParams(line.split("?")[1]).get("$filter"));
    expect(filters.at(-1)).toBe("Name ne 'Neil' and ChangedAt ge 2026-01-03T10:00:00.000Z");
    expect(log.at(-1)).toContain("$orderby=ChangedAt,ID");
  });

  it.each([
    ["a slash at its end", "/"],
    ["$metadata appended", "/$metadata"],
    ["a set's name appended", "/Members"],
  ])("is found with %s", async (_what, ending) => {
    const { url } = await odataStranger("members.v4.xml", data);
    expect(await allRecords(openOData(url + ending), "clubs")).toHaveLength(2);
  });

  it("says what it has not: a set, a property, a filter", async () => {
    const { url } = await odataStranger("members.v4.xml", data);
    const wrong = (stream: object) =>
      failure(allRecords(openOData(url, { streams: { s: stream } } as Partial<Input>), "s"));
    expect(await wrong({ set: "Member" })).toMatchObject({
      code: "CONFIG_UNKNOWN_NAME",
      message: "The service has no set Member.",
      hint: expect.stringContaining("Members"),
    });
    expect(await wrong({ set: "Members", cursor: { field: "Changed" } })).toMatchObject({
      code: "CONFIG_INVALID",
      hint: "Its times: Joined, ChangedAt.",
    });
    expect(await wrong({ set: "Clubs", cursor: { field: "Title" } })).toMatchObject({
      message: "The service says that Clubs cannot be filtered by Title.",
    });
    expect(await failure(allRecords(openOData(url), "membres"))).toMatchObject({
      hint: expect.stringContaining("members"),
    });
    expect(await failure(allRecords(openOData(url.replace("/odata", "/oadta")), "members"))).toMatchObject({
      code: "NOT_FOUND",
    });
  });
});

describe("a stranger that speaks 2.0", () => {
  it("is read with its times, its long numbers and its composite key", async () => {
    const delivery = { ItemCode: "X", Opens: "PT8H", Kilos: "1.500" };
    const { url, log } = await odataStranger("stores.v2.xml", {
      Deliveries: [
        {
          Number: "A",
          Line: 1,
          ArrivedAt: "/Date(1767225600000)/",
          ChangedAt: "/Date(1767225600000+0060)/",
          Pieces: "7",
          ...delivery,
        },
        {
          Number: "A",
          Line: 2,
          ArrivedAt: "/Date(1767225601250)/",
          ChangedAt: "/Date(1767398400000+0000)/",
          Pieces: "8",
          ...delivery,
        },
      ],
      Items: [],
    });
    const path = `${temporaryFolder()}/v2.duckdb`;
    const report = await (await bridgeInto(path, openOData(url))).run();
    expect(report).toMatchObject({ outcome: "done" });
    const rows =
      "SELECT number, line::INTEGER AS line, arrived_at::VARCHAR AS arrived, changed_at::VARCHAR AS changed, kilos::VARCHAR AS kilos FROM deliveries ORDER BY line";
    expect(await queryFile(path, rows)).toEqual([
      {
        number: "A",
        line: 1,
        arrived: "2026-01-01 00:00:00",
        changed: "2026-01-01 00:00:00+00",
        kilos: "1.500",
      },
      {
        number: "A",
        line: 2,
        arrived: "2026-01-01 00:00:01.25",
        changed: "2026-01-03 00:00:00+00",
        kilos: "1.500",
      },
    ]);
    // a set that is empty has its table, too
    expect(await queryFile(path, "SELECT * FROM items")).toEqual([]);
    expect(log).toContain(
      "/huts/odata/Deliveries?$select=Number,Line,ItemCode,ArrivedAt,ChangedAt,Opens,Kilos,Pieces&$inlinecount=allpages",
    );
  });
});

describe("a service with pages", () => {
  const run = async (houses: Houses, version: "4.0" | "2.0") => {
    const { url, log } = await odataHouse(version, houses);
    const path = `${temporaryFolder()}/pages.duckdb`;
    const streams = { huts: { set: "Huts", cursor: { field: "ChangedAt" } } };
    const bridge = await bridgeInto(path, openOData(url, { streams }), { checkpoint: { rows: 40 } });
    const report = await bridge.run();
    const [{ rows } = { rows: 0 }] = await queryFile(
      path,
      "SELECT count(*)::INTEGER AS rows FROM huts",
    ).catch(() => []);
    return { report, stream: report.streams[0]!, rows, log, bridge, path };
  };

  it.each(["4.0", "2.0"] as const)("of %s follows next links, whole or not, to the end", async (version) => {
    const { stream, rows, log } = await run({ count: 130, page: 25 }, version);
    expect(stream).toMatchObject({ outcome: "done", received: 130, pages: 6 });
    expect(rows).toBe(130);
    expect(log.filter((line) => line.includes("skiptoken"))).toHaveLength(5);
  });

  it.each(["4.0", "2.0"] as const)(
    "of %s that caps what it gives in silence is found out by its count",
    async (version) => {
      const { stream } = await run({ count: 130, page: 25, capped: true }, version);
      expect(stream).toMatchObject({ outcome: "incomplete", added: 25 });
      expect(stream.error?.message).toContain("130");
    },
  );

  it("that breaks off inside of a page is asked again, and is whole", async () => {
    const { stream, rows } = await run({ count: 130, page: 25, breaksOff: 3 }, "4.0");
    expect(stream).toMatchObject({ outcome: "done", retries: 1 });
    expect(rows).toBe(130);
  });

  it("goes on from its cursor, with the literal of its version", async () => {
    for (const version of ["4.0", "2.0"] as const) {
      const { bridge, log, path } = await run({ count: 30, page: 25 }, version);
      const before = log.length;
      expect((await bridge.run()).outcome).toBe("done");
      const filter = new URLSearchParams(log[before]!.split("?")[1]).get("$filter");
      expect(filter).toMatch(
        version === "4.0"
          ? /^ChangedAt ge 2026-01-01T\S+Z$/
          : /^ChangedAt ge datetimeoffset'2026-01-01T\S+Z'$/,
      );
      expect(await queryFile(path, "SELECT count(*)::INTEGER AS rows FROM huts")).toEqual([{ rows: 30 }]);
    }
  });
});

describe("a service with delta links", () => {
  const open4 = async (houses: Houses) => {
    const { url, log } = await odataHouse("4.0", houses);
    const path = `${temporaryFolder()}/delta.duckdb`;
    const bridge = await bridgeInto(
      path,
      openOData(url, { streams: { huts: { set: "Huts", cursor: { delta: true } } } }),
    );
    const rows = async () => (await queryFile(path, "SELECT count(*)::INTEGER AS rows FROM huts"))[0]?.rows;
    return { bridge, log, rows, path };
  };

  it("gives what changed and what is gone, and each run goes on from the last one's link", async () => {
    const changes: object[] = [];
    const { bridge, log, rows, path } = await open4({ count: 60, page: 25, changes });
    expect((await bridge.run()).streams[0]).toMatchObject({ outcome: "done", added: 60 });
    changes.push(
      { Id: 3, Title: "Hut 3, renamed", ChangedAt: "2026-02-01T00:00:00Z" },
      { "@removed": { reason: "deleted" }, "@id": "Huts(4)" },
      { "@odata.context": "$metadata#Huts/$deletedEntity", id: "Huts(5)", reason: "deleted" },
      { Id: 61, Title: "New", ChangedAt: "2026-02-01T00:00:00Z" },
    );
    const second = (await bridge.run()).streams[0];
    expect(second).toMatchObject({ outcome: "done", received: 4, added: 1, changed: 1, removed: 2 });
    expect(await rows()).toBe(59);
    expect(await queryFile(path, "SELECT title FROM huts WHERE id IN (3, 4, 5)")).toEqual([
      { title: "Hut 3, renamed" },
    ]);
    changes.length = 0;
    expect((await bridge.run()).streams[0]).toMatchObject({ outcome: "done", received: 0 });
    expect(log.at(-1)).toBe("/odata/Huts?$deltatoken=later");
  });

  it("whose link has expired is read whole, and says so", async () => {
    const houses: Houses = { count: 30, page: 25, changes: [] };
    const { bridge, rows } = await open4(houses);
    await bridge.run();
    houses.forgetful = true;
    const notices: string[] = [];
    const report = await bridge.run({
      onEvent: (event) => event.type === "notice" && notices.push(event.message),
    });
    expect(report.streams[0]).toMatchObject({ outcome: "done", unchanged: 30 });
    expect(notices.join()).toContain("no longer knows the place where the last run ended");
    expect(await rows()).toBe(30);
  });
});

describe("errors of OData services", () => {
  it.each([
    ["4.0", '{"error":{"code":"H1","message":"The valley is closed."}}', "H1: The valley is closed."],
    [
      "3.0",
      '{"odata.error":{"code":"H1","message":{"lang":"en","value":"The valley is closed."}}}',
      "H1: The valley is closed.",
    ],
    [
      "2.0",
      '{"error":{"code":"H1","message":{"lang":"en","value":"The valley is closed."}}}',
      "H1: The valley is closed.",
    ],
    [
      "2.0 in XML",
      '<?xml version="1.0"?><error xmlns="x"><code>H1</code><message xml:lang="en">The valley is closed.</message></error>',
      "The valley is closed.",
    ],
  ])("of %s are quoted", async (_version, body, words) => {
    const url = await serve((_request, response) => response.writeHead(400).end(body));
    const error = await failure(allRecords(openOData(`${url}/odata`), "huts"));
    expect(error).toMatchObject({ code: "REQUEST_REFUSED", message: expect.stringContaining(words) });
  });

  it.each([
    ["a web page", "<!doctype html><title>Huts</title>", "METADATA_UNREADABLE", "a web page came"],
    ["something else", "42", "METADATA_UNREADABLE", "neither XML nor JSON"],
    ["XML of another kind", "<rss/>", "METADATA_UNREADABLE", "describes no OData service"],
  ])("for metadata: %s", async (_what, body, code, words) => {
    const url = await serve((_request, response) => response.end(body));
    expect(await failure(allRecords(openOData(`${url}/odata`), "huts"))).toMatchObject({
      code,
      message: expect.stringContaining(words),
    });
  });

  it("for metadata that is not there, also at a host's root", async () => {
    const url = await serve((_request, response) => response.writeHead(404).end("{}"));
    for (const ending of ["", "/odata", "/v1/odata"])
      expect(await failure(allRecords(openOData(url + ending), "huts"))).toMatchObject({ code: "NOT_FOUND" });
  });

  it("for metadata that may not be seen", async () => {
    const url = await serve((_request, response) => response.writeHead(403).end("{}"));
    expect(await failure(allRecords(openOData(`${url}/odata`), "huts"))).toMatchObject({ code: "FORBIDDEN" });
  });
});

describe("the page about OData", () => {
  const page = readFileSync("docs/odata.md", "utf8");
  const examples = [...page.matchAll(/```yaml\n([\s\S]*?)```/g)].map(([, text]) => text!);

  it.each([
    [0, ["members", "clubs"], 3],
    [1, ["members"], 1],
  ])("holds a connector that carries what it says (%i)", async (n, names, records) => {
    const { url } = await odataStranger("members.v4.xml", {
      Members: MEMBERS,
      Clubs: [{ Code: "A", Title: "Alpine" }],
    });
    const file = parseYaml(examples[n]!, "odata.md");
    const connector = checkConnector(file.value, file);
    const settings = {
      base: url.replace("/odata", ""),
      ...("token" in connector.settings ? { token: "t" } : {}),
    };
    const api = connect(connector, settings);
    whenDone(() => api.close());
    const path = `${temporaryFolder()}/page.duckdb`;
    const report = await (await bridgeInto(path, api)).run();
    expect(report).toMatchObject({ outcome: "done" });
    expect(report.streams.map(({ stream }) => stream)).toEqual(names);
    expect(report.streams.reduce((sum, { added }) => sum + added, 0)).toBe(records);
    const card =
      "SELECT column_name FROM information_schema.columns WHERE table_name = 'members' AND column_name = 'card'";
    expect(await queryFile(path, card)).toHaveLength(n === 0 ? 1 : 0);
  });

  it("holds a table of types that is true", () => {
    const rows = [...page.matchAll(/^\| ([A-Z][\w(), ]*?) +\| ([a-z_0-9]+(?:\(12,2\))?)/gm)];
    expect(rows.length).toBeGreaterThan(11);
    for (const [, names, column] of rows.filter(([, , each]) => each !== "column"))
      for (const text of names!.split(/, (?![^(]*\))/)) {
        const [, inner] = /^Collection\((\w+)\)$/.exec(text) ?? [];
        const [, name, digits] = /^(\w+)(?:\((.*)\))?$/.exec(inner ?? text)!;
        const [precision, scale] =
          inner === undefined && digits !== undefined ? digits.split(",").map(Number) : [];
        const type = { name: `Edm.${name}`, isCollection: inner !== undefined };
        const rule = columnRuleOf({ type, precision, scale });
        const told = rule.type ? formatColumnType(rule.type) : rule.skip === true ? "none" : "what";
        expect(told, text).toBe(column);
      }
  });
});
