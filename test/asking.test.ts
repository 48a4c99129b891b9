/** Requests, parts, windows, reports, figures, details and failures, against an API in this process. */

import { gzipSync } from "fflate";
import { describe, expect, it } from "vitest";
import type { ConnectorInput } from "../src/core/define/connector-input.js";
import { newTally } from "../src/http/exchange.js";
import { connect, defineConnector } from "../src/index.js";
import { insideOf } from "../src/run/api.js";
import { carried } from "./support/carried.js";
import { failure } from "./support/failure.js";
import { type Answered, type Asked, BASE, fakeApi, recordsOf } from "./support/fake-api.js";
import { serve } from "./support/serve.js";
import { queryFile } from "./support/truth.js";

type StreamInput = NonNullable<ConnectorInput["streams"]>[string];

const paths = ({ log }: { log: readonly Asked[] }) =>
  log.map(({ path, query }) => `${path}${query.size === 0 ? "" : `?${query}`}`);

describe("lists", () => {
  it("are fetched once and first, and joined where they are to be one text", async () => {
    const fake = fakeApi(
      {
        get: "/rows",
        query: { select: "{fields}", id: "{ids*}" },
        lists: {
          fields: { get: "/describe", values: "$.fields[*].name", join: "|" },
          ids: { get: "/ids", values: "$[*]", pages: { number: 1, query: "page" } },
        },
        records: "$[*]",
      },
      ({ path, query }) => {
        if (path === "/describe") return { body: { fields: [{ name: "a" }, { name: "b c" }] } };
        if (path === "/ids") return { body: query.get("page") === "1" ? [7, 9] : [] };
        return { body: [{ a: 1 }] };
      },
    );
    expect(await recordsOf(fake)).toEqual([{ a: 1 }]);
    expect(paths(fake)).toEqual([
      "/describe",
      "/ids?page=1",
      "/ids?page=2",
      "/rows?select=a%7Cb+c&id=7&id=9",
    ]);
  });

  it("without a value are a mistake that is told", async () => {
    const stream: StreamInput = {
      get: "/rows",
      query: { f: "{fields}" },
      lists: { fields: { get: "/d", values: "$.fields[*]" } },
    };
    const error = await failure(recordsOf(fakeApi(stream, () => ({ body: { fields: [] } }))));
    expect(error).toMatchObject({
      code: "RECORDS_NOT_FOUND",
      message: expect.stringContaining("The list fields has no values"),
    });
  });
});

describe("parts", () => {
  const readings = ({ path, query }: Asked): Answered => {
    if (path === "/huts")
      return {
        body: {
          huts: query.get("page") === "2" ? [{ id: 3 }] : [{ id: 1 }, { id: "a b/c" }],
          next: query.has("page") ? null : "2",
        },
      };
    if (path.endsWith("/sensors")) return { body: [{ name: "t" }, { name: "h" }] };
    return { body: [{ from: path }] };
  };
  const huts: StreamInput = { get: "/huts", records: "$.huts[*]", pages: { token: "$.next", query: "page" } };

  it("are a list's values, nested in their order, with tags on every record", async () => {
    const fake = fakeApi(
      {
        get: "/huts/{hut}/{kind}",
        each: { hut: [1, 2], kind: ["wind", "snow"] },
        add: { hut: "{hut}", what: "{kind} of {hut}", source: "sensors" },
      },
      readings,
    );
    expect(await recordsOf(fake)).toEqual([
      { from: "/huts/1/wind", hut: 1, what: "wind of 1", source: "sensors" },
      { from: "/huts/1/snow", hut: 1, what: "snow of 1", source: "sensors" },
      { from: "/huts/2/wind", hut: 2, what: "wind of 2", source: "sensors" },
      { from: "/huts/2/snow", hut: 2, what: "snow of 2", source: "sensors" },
    ]);
  });

  it("are another stream's field over all its pages, and its parts' values with it", async () => {
    const fake = fakeApi(
      {
        streams: {
          huts,
          sensors: { get: "/huts/{hut}/sensors", each: { hut: { stream: "huts", field: "id" } } },
          s: { get: "/huts/{hut}/sensors/{sensor}", each: { sensor: { stream: "sensors", field: "name" } } },
        },
      },
      readings,
    );
    const asked = (await recordsOf(fake)).map((record) => (record as { from: string }).from);
    expect(asked).toEqual(
      ["1", "a%20b%2Fc", "3"].flatMap((hut) => ["t", "h"].map((sensor) => `/huts/${hut}/sensors/${sensor}`)),
    );
    expect(fake.log.filter(({ path }) => path === "/huts")).toHaveLength(2);
  });

  it("are another request's values, which may ask for the part above", async () => {
    const fake = fakeApi(
      {
        get: "/huts/{hut}/{sensor}",
        each: { hut: [5], sensor: { get: "/huts/{hut}/sensors", values: "$[*].name" } },
      },
      readings,
    );
    expect(await recordsOf(fake)).toEqual([{ from: "/huts/5/t" }, { from: "/huts/5/h" }]);
  });

  it("of a value that no address can hold are told", async () => {
    const stream: StreamInput = { get: "/x/{hut}", each: { hut: { get: "/huts", values: "$.huts[*]" } } };
    expect(await failure(recordsOf(fakeApi(stream, readings)))).toMatchObject({
      code: "PART_INVALID",
      message: "A value of each.hut is an object.",
    });
  });

  it("that the API no longer knows are left out where the connector says so", async () => {
    const notices: string[] = [];
    const fake = fakeApi(
      {
        get: "/huts/{hut}",
        each: { hut: [1, 2, 3] },
        rules: [{ when: "status == 404", means: "skip", message: "$.message" }],
      },
      ({ path }) =>
        path === "/huts/2" ? { status: 404, body: { message: "It was torn down." } } : { body: [{ path }] },
    );
    const onEvent = (event: { type: string; message?: string }) =>
      event.type === "notice" && notices.push(event.message!);
    expect(await recordsOf(fake, { onEvent })).toEqual([{ path: "/huts/1" }, { path: "/huts/3" }]);
    expect(notices).toEqual(["hut=2: Nothing is there: It was torn down."]);
  });
});

describe("windows", () => {
  const DAY = 86_400_000;
  const day = (n: number) => new Date(Date.UTC(2026, 9, 1) + n * DAY).toISOString().slice(0, 10);
  const stays = Array.from({ length: 30 }, (_, n) => ({ id: n, at: day(n) }));
  const within = ({ query }: Asked) =>
    stays.filter(({ at }) => at >= query.get("from")! && at < query.get("to")!);
  const stream = (extra: object): StreamInput => ({
    get: "/stays",
    key: "id",
    windows: {
      span: "P10D",
      from: "from",
      to: "to",
      format: "date",
      start: "2026-10-01",
      end: "2026-10-31",
      ...extra,
    },
  });

  it("are asked one after the other, oldest or newest first", async () => {
    const oldest = fakeApi(stream({}), (asked) => ({ body: within(asked) }));
    expect(await recordsOf(oldest)).toEqual(stays);
    expect(paths(oldest)).toEqual([
      "/stays?from=2026-10-01&to=2026-10-11",
      "/stays?from=2026-10-11&to=2026-10-21",
      "/stays?from=2026-10-21&to=2026-10-31",
    ]);
    const newest = fakeApi(stream({ order: "newest_first" }), (asked) => ({ body: within(asked) }));
    await recordsOf(newest);
    expect(paths(newest)[0]).toBe("/stays?from=2026-10-21&to=2026-10-31");
  });

  it.each([
    [
      "the API says that there is too much",
      {},
      { rules: [{ when: "status == 422 && body.code == 'too_many'", means: "halve" as const }] },
    ],
    ["the API cuts at a number that is known", { max_records: 5 }, {}],
    ["that number comes in pages", { max_records: 5 }, { pages: { offset: 0, query: "offset" } }],
  ])("are halved when %s", async (_when, windows, extra) => {
    const fake = fakeApi({ ...stream(windows), ...extra }, (asked) => {
      const found = within(asked);
      const from = Number(asked.query.get("offset") ?? 0);
      if ("pages" in extra) return { body: found.slice(0, 5).slice(from, from + 2) };
      if ("max_records" in windows) return { body: found.slice(0, 5) };
      return found.length >= 5 ? { status: 422, body: { code: "too_many" } } : { body: found };
    });
    const records = await recordsOf(fake);
    // a window that is cut is taken back whole: nothing comes twice
    expect(records).toEqual(stays);
  });

  it("that are still too large when they cannot be halved are told", async () => {
    const fake = fakeApi(stream({ max_records: 1, smallest: "P1D" }), (asked) => ({
      body: within(asked).slice(0, 1),
    }));
    expect(await failure(recordsOf(fake))).toMatchObject({
      code: "RESULTS_CUT",
      message: expect.stringContaining("1 records at most"),
    });
  });
});

describe("reports", () => {
  const report = (options: object = {}): StreamInput => ({
    report: {
      submit: { post: "/reports", body: { json: { of: "{today}" } }, id: "$.id" },
      poll: {
        get: "/reports/{report_id}",
        state: "$.state",
        done: ["ready"],
        failed: ["broken"],
        link: "$.file",
        wait: "PT2S",
        longest: "PT8S",
        ...options,
      },
      download: { link: true },
      resubmit_states: ["expired"],
    },
    response: "csv",
  });
  const service = (states: string[], link = "https://files.huts.example/r.csv?x=1") => {
    let looks = 0;
    return ({ path, method }: Asked): Answered => {
      if (method === "POST") return { status: 202, body: { id: "r1" } };
      if (path === "/reports/r1") return { body: { state: states[looks++] ?? "ready", file: link } };
      return { body: gzipSync(new TextEncoder().encode("a,b\n1,2\n")) };
    };
  };

  it("are submitted, looked at with growing waits, and downloaded from another origin without credentials", async () => {
    const fake = fakeApi(
      { streams: { s: report() }, api: { headers: { "x-tenant": "north" } } },
      service(["queued", "queued", "queued"]),
    );
    const from = fake.clock.now();
    expect(await recordsOf(fake)).toEqual([{ a: "1", b: "2" }]);
    // 2, 3, 4.5 and 6.75 s
    expect(fake.clock.now() - from).toBe(16_250);
    expect(fake.log[0]).toMatchObject({ body: '{"of":"2026-11-01"}', headers: { "x-tenant": "north" } });
    expect(fake.log.at(-1)).toMatchObject({
      path: "/r.csv",
      headers: expect.not.objectContaining({ "x-tenant": "north" }),
    });
  });

  it.each([
    ["that fail are told", ["broken"], "ended as broken"],
    ["that are never done are told", Array(2000).fill("queued"), "is not done after PT2H"],
    ["that expire again and again are told", Array(9).fill("expired"), "expired 3 times"],
  ])("%s", async (_what, states, message) => {
    const error = await failure(recordsOf(fakeApi(report(), service(states))));
    expect(error).toMatchObject({ code: "REPORT_FAILED", message: expect.stringContaining(message) });
  });

  it("that have expired are submitted anew", async () => {
    const fake = fakeApi(report(), service(["queued", "expired", "ready"], `${BASE}/r.csv`));
    expect(await recordsOf(fake)).toHaveLength(1);
    expect(fake.log.filter(({ method }) => method === "POST")).toHaveLength(2);
  });
});

describe("figures", () => {
  const stream = (names: string[], max_per_request = 2): StreamInput => ({
    get: "/figures",
    query: { by: "{dimensions}", of: "{measures}", size: 2 },
    dimensions: { names: ["day", "hut"], max_per_request: 2 },
    measures: { names, max_per_request },
    pages: { number: 1, query: "page" },
  });
  const all = [
    { day: "1", hut: 1, a: 1, b: 2, c: 3 },
    { day: "1", hut: 2, a: 4, b: 5, c: 6 },
    { day: "2", hut: 1, a: 7, b: 8, c: 9 },
  ];
  const answer = ({ query }: Asked): Answered => {
    const names = [...query.get("by")!.split(","), ...query.get("of")!.split(",")];
    const from = (Number(query.get("page")) - 1) * 2;
    // the API leaves out a row in which all that is asked for is zero
    const list = all.filter((row) => !(query.get("of") === "c" && row.c === 6));
    return {
      body: list
        .slice(from, from + 2)
        .map((row) => Object.fromEntries(names.map((name) => [name, row[name as "a"]]))),
    };
  };

  it("beyond what one request takes are asked for in turn, and joined on the dimensions", async () => {
    const fake = fakeApi(stream(["a", "b", "c"]), answer);
    expect(await recordsOf(fake)).toEqual([all[0], { day: "1", hut: 2, a: 4, b: 5 }, all[2]]);
    expect([...new Set(fake.log.map(({ query }) => query.get("of")))]).toEqual(["a,b", "c"]);
  });

  it("by more dimensions than the API takes are refused before anything is sent", () => {
    const tooMany = { ...stream(["a"]), dimensions: { names: ["day", "hut", "bed"], max_per_request: 2 } };
    expect(() => fakeApi(tooMany, answer)).toThrow("3 dimensions are asked for, and the API takes 2.");
  });
});

describe("details", () => {
  const answer = ({ path }: Asked): Answered => {
    if (path === "/stays")
      return {
        body: [
          { id: 1, at: "2026-01-01" },
          { id: 2, at: "2026-01-02" },
          { id: 3, at: "2026-01-03" },
        ],
      };
    return path === "/stays/2" ? { status: 404 } : { body: { stay: { guests: Number(path.at(-1)) } } };
  };
  const expand = { get: "/stays/{stay_id}", fields: { stay_id: "id" }, record: "$.stay" };

  it("are fetched for each record and join it; one that is gone leaves the record as it was", async () => {
    expect(await recordsOf(fakeApi({ get: "/stays", key: "id", expand }, answer))).toEqual([
      { id: 1, at: "2026-01-01", guests: 1 },
      { id: 2, at: "2026-01-02" },
      { id: 3, at: "2026-01-03", guests: 3 },
    ]);
    const inside = await recordsOf(
      fakeApi({ get: "/stays", key: "id", expand: { ...expand, at: "more.detail" } }, answer),
    );
    expect(inside[0]).toEqual({ id: 1, at: "2026-01-01", more: { detail: { guests: 1 } } });
  });

  it("are fetched for changed records only, on our side where the API has no filter", async () => {
    const fake = fakeApi({ get: "/stays", key: "id", expand, cursor: { field: "at" } }, answer);
    expect(await recordsOf(fake, { since: "2026-01-03" })).toEqual([{ id: 3, at: "2026-01-03", guests: 3 }]);
    expect(paths(fake)).toEqual(["/stays", "/stays/3"]);
  });
});

describe("what a response means", () => {
  const once =
    (bad: Answered) =>
    ({ turn }: Asked): Answered =>
      turn === 1 ? bad : { body: [{ id: 1 }] };

  it.each<[string, Answered, StreamInput["rules"]]>([
    [
      "an error with status 200",
      { body: { error: { code: "busy" } } },
      [{ when: "has(body.error) && body.error.code == 'busy'", means: "retry" }],
    ],
    ["a status of the API's own", { status: 420 }, [{ when: "status == 420", means: "retry" }]],
    [
      "a header",
      { headers: { "x-state": "warming" }, body: [] },
      [{ when: "headers['x-state'] == 'warming'", means: "retry" }],
    ],
    ["a web page", { body: "<html><title>one moment</title></html>" }, []],
    ["a body that breaks off", { body: '[{"id":' }, []],
    ["nothing", { body: "" }, []],
    ["a server's failure", { status: 503, headers: { "retry-after": "7" } }, []],
  ])("%s is tried again", async (_what, bad, rules) => {
    const fake = fakeApi({ get: "/s", rules }, once(bad));
    expect(await recordsOf(fake)).toEqual([{ id: 1 }]);
    expect(fake.log).toHaveLength(2);
  });

  it("ends the stream where a rule says stop, in the API's words", async () => {
    const stream: StreamInput = {
      get: "/s",
      rules: [{ when: "body.ok == false", means: "stop", message: "$.why" }],
    };
    const fake = fakeApi(stream, () => ({ body: { ok: false, why: "The contract has ended." } }));
    expect(await failure(recordsOf(fake))).toMatchObject({
      code: "RESPONSE_FAILED",
      message: expect.stringContaining("The contract has ended."),
    });
    expect(fake.log).toHaveLength(1);
  });

  it("a POST that may have arrived is not sent twice, unless it changes nothing", async () => {
    const post = (safe_to_retry: boolean) =>
      fakeApi({ post: "/s", body: { json: {} }, safe_to_retry }, once({ status: 502 }));
    const fake = post(false);
    expect(await failure(recordsOf(fake))).toMatchObject({
      code: "SERVER_FAILED",
      hint: expect.stringContaining("safe_to_retry"),
    });
    expect(fake.log).toHaveLength(1);
    expect(await recordsOf(post(true))).toEqual([{ id: 1 }]);
    // a refusal for lack of room says that nothing was done
    expect(await recordsOf(fakeApi({ post: "/s", body: { json: {} } }, once({ status: 429 })))).toEqual([
      { id: 1 },
    ]);
  });

  it("gives up when the whole run has tried again too often", async () => {
    const fake = fakeApi(
      { get: "/x/{n}", key: "id", each: { n: Array.from({ length: 900 }, (_, n) => n) } },
      ({ turn }) => (turn % 5 === 0 ? { body: [{ id: turn }] } : { status: 503 }),
    );
    expect(await failure(recordsOf(fake))).toMatchObject({
      code: "RETRIES_EXHAUSTED",
      message: expect.stringMatching(/tried again \d+ times in \d+ requests, and gives up/),
    });
  });

  it("asks for what it can read", async () => {
    for (const [response, accept] of [
      ["json", "application/json"],
      ["csv", "text/csv, */*;q=0.5"],
    ] as const) {
      const fake = fakeApi({ get: "/s", response }, () => ({ body: "[]" }));
      await recordsOf(fake);
      expect(fake.log[0]?.headers.accept).toBe(accept);
    }
  });

  it("leaves out records by a condition, and those that cannot be judged go to quarantine", async () => {
    const body = [{ id: 1, stars: 4 }, { id: 2, stars: 1 }, { id: 3 }, { id: 4, stars: 5, tags: ["x"] }];
    const fake = fakeApi({ get: "/s", key: "id", where: "record.stars >= 4" }, () => ({ body }));
    const { Shape } = await import("../src/core/shape/shape.js");
    const { key, columns } = await insideOf(fake.api).stream("s");
    for await (const page of fake.api.pages("s")) {
      expect(page.records).toEqual([body[0], body[3]]);
      const shape = new Shape({ stream: "s", key, columns, names: { maxBytes: 63 }, takenTables: new Set() });
      expect([...page.shape(shape)].flatMap(({ issues }) => issues)).toEqual([
        expect.objectContaining({ reason: "not_judged", record: { id: 3 } }),
      ]);
    }
    const kept = fakeApi({ get: "/s" }, () => ({ body }), { streams: { s: { keep: ({ id }) => id === 2 } } });
    expect(await recordsOf(kept)).toEqual([body[1]]);
  });

  it("reads records from several places of one response", async () => {
    const fake = fakeApi({ get: "/s", records: ["$.new[*]", "$.changed[*]"] }, () => ({
      body: { new: [{ id: 1 }], changed: [{ id: 2 }] },
    }));
    expect(await recordsOf(fake)).toEqual([{ id: 1 }, { id: 2 }]);
  });

  it("does not follow a next page to another origin", async () => {
    const fake = fakeApi({ get: "/s", pages: { link: "$.next" }, records: "$.items[*]" }, () => ({
      body: { items: [{ id: 1 }], next: "https://elsewhere.example/s" },
    }));
    expect(await failure(recordsOf(fake))).toMatchObject({
      code: "LINK_NOT_OURS",
      hint: expect.stringContaining("api.origins"),
    });
    expect(fake.log).toHaveLength(1);
  });
});

describe("mistakes in how a stream asks", () => {
  it.each<[string, object, string, string]>([
    [
      "two page rules",
      { pages: { token: "$.a", number: 1, query: "p" } },
      "CONFIG_INVALID",
      "one of token, link, number, offset, after or keyset",
    ],
    [
      "a position that is sent nowhere",
      { pages: { token: "$.a" } },
      "CONFIG_INVALID",
      "does not say how {token} is sent",
    ],
    ["a name that nothing gives", { query: { hut: "{hut_id}" } }, "CONFIG_UNKNOWN_NAME", "asks for {hut_id}"],
    ["no request", { get: undefined }, "CONFIG_INVALID", "must hold one of get, post, report or set"],
    ["a body without POST", { body: { json: {} } }, "CONFIG_INVALID", "goes with post"],
    ["a condition that is no CEL", { where: "record.x =" }, "CONFIG_INVALID", "must be a CEL expression"],
    [
      "a parent that is not there",
      { each: { x: { stream: "hut", field: "id" } } },
      "CONFIG_UNKNOWN_NAME",
      "which is none of the connector's",
    ],
    [
      "parts of itself",
      { each: { x: { stream: "s", field: "id" } } },
      "CONFIG_INVALID",
      "s → s wait for each other",
    ],
    [
      "windows and a cursor",
      { windows: { span: "P1D", start: "-P1Y" }, cursor: { field: "at" } },
      "CONFIG_INVALID",
      "they are the cursor",
    ],
    [
      "a pace group that is not there",
      { rate_limit: { group: "search" } },
      "CONFIG_UNKNOWN_NAME",
      "no group of api.rate_limit",
    ],
    [
      "an encoding that is none",
      { response: { csv: { encoding: "utf-9" } } },
      "CONFIG_INVALID",
      "encoding's name",
    ],
    [
      "overlap without a key",
      { pages: { offset: 0, query: "o", overlap: 3 } },
      "CONFIG_INVALID",
      "needs a key",
    ],
  ])("%s", (_what, extra, code, message) => {
    expect(() => fakeApi({ get: "/s", ...extra } as StreamInput, () => ({}))).toThrow(
      expect.objectContaining({ code, message: expect.stringContaining(message) }),
    );
  });
});

describe("parts within parts", () => {
  it("are found with as many requests at once as the API permits", async () => {
    let most = 0;
    const waiting: (() => void)[] = [];
    const release = () => {
      for (const respond of waiting.splice(0)) respond();
    };
    // rooms are given when as many are asked for as may be; else after a while, and the count is wrong
    const url = await serve((request, response) => {
      if (request.url === "/huts")
        return response.end(JSON.stringify(Array.from({ length: 8 }, (_, id) => ({ id }))));
      most = Math.max(
        most,
        waiting.push(() => response.end('[{"id":1}]')),
      );
      if (waiting.length === 8) release();
      else setTimeout(release, 5000).unref();
    });
    const connector = defineConnector({
      connector: "nested",
      api: { url, sign_in: "none", rate_limit: { concurrency: 8 } },
      streams: {
        huts: { get: "/huts", key: "id" },
        rooms: { get: "/huts/{hut}/rooms", each: { hut: { stream: "huts", field: "id" } } },
        beds: { get: "/huts/{hut}/rooms/{room}/beds", each: { room: { stream: "rooms", field: "id" } } },
      },
    });
    await using api = connect(connector, {});
    const ask = await insideOf(api).openStream("beds", { tally: newTally() });
    expect((await ask.parts()).map(({ key }) => key)).toEqual(
      Array.from({ length: 8 }, (_, i) => `hut=${i}&room=1`),
    );
    expect(most).toBe(8);
  });
});

describe("a response that is the record", () => {
  it("gives each of its lists as a table of one stream, page after page", async () => {
    const pages: readonly object[] = [
      { huts: [{ id: 1, rooms: [{ no: 1 }, { no: 2 }] }], wardens: [{ name: "Mia" }], next: "1" },
      { huts: [{ id: 2 }, { id: 3 }], wardens: [] },
    ];
    const { run, database } = carried(
      { get: "/all", records: "$", pages: { token: "$.next", query: "page" } },
      ({ query }) => ({ body: pages[Number(query.get("page") ?? 0)]! }),
    );
    // what came before is replaced, and nothing is there twice
    for (const _ of [1, 2])
      expect((await run()).stream).toMatchObject({
        outcome: "done",
        rowsByTable: { s: 2, s_huts: 3, s_huts_rooms: 2, s_wardens: 1 },
      });
    const huts =
      "SELECT h.id::INTEGER AS id FROM s_huts AS h JOIN s ON s.eb_row_id = h.s_eb_row_id ORDER BY 1";
    expect(await queryFile(database, huts)).toEqual([{ id: 1 }, { id: 2 }, { id: 3 }]);
  });
});
