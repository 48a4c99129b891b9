/** Slips of the pen in a connector that would pass over records without a word, if nobody looked. */

import { describe, expect, it } from "vitest";
import type { ConnectorInput } from "../src/core/define/connector-input.js";
import { connect, defineConnector, probe } from "../src/index.js";
import { carried } from "./support/carried.js";
import { failure } from "./support/failure.js";
import { type Answered, type Asked, BASE, fakeApi, recordsOf } from "./support/fake-api.js";
import { serve } from "./support/serve.js";

type Stream = NonNullable<ConnectorInput["streams"]>[string];

describe("a field that no record has", () => {
  const huts = { huts: [{ id: 1, name: "Upper Hut" }, { id: 2 }] };
  const each = (source: object): Stream =>
    ({ get: "/huts/{hut}/stays", each: { hut: source } }) as unknown as Stream;
  const answer = ({ path }: Asked): Answered => ({ body: path === "/huts" ? huts : [{ id: 7 }] });

  it.each([
    ["each.hut.field", each({ stream: "huts", field: "ident" })],
    ["each.hut.field", each({ file: "huts.csv", field: "ident" })],
    ["each.hut.values", each({ get: "/huts", values: "$.huts[*].ident" })],
    [
      "lists.names.values",
      {
        get: "/stays",
        query: { of: "{names}" },
        lists: { names: { get: "/huts", values: "$.huts[*].ident" } },
      },
    ],
  ])("is told as %s, with those there are", async (key, s) => {
    const streams = { huts: { get: "/huts", records: "$.huts[*]" }, s };
    const readFile = async () => new TextEncoder().encode("id,name\n1,Upper Hut\n");
    const { connector } = fakeApi({ streams }, answer);
    const replay = async ({ url }: { url: string }) => {
      const path = url.slice(BASE.length);
      const { body } = answer({ path } as Asked);
      return { status: 200, headers: {}, url, body: new TextEncoder().encode(JSON.stringify(body)) };
    };
    const api = connect(connector, {}, { replay, readFile });
    const error = await failure(api.records("s").next());
    expect(error).toMatchObject({ code: "PART_INVALID", message: expect.stringContaining("ident") });
    expect(error.hint).toMatch(new RegExp(`^Correct ${key}. The records have: id, name`));
  });

  it("is no mistake where there are no records", async () => {
    const streams = { huts: { get: "/huts" }, s: each({ stream: "huts", field: "ident" }) };
    expect(await recordsOf(fakeApi({ streams }, () => ({ body: [] })))).toEqual([]);
  });

  it("is told where the list itself is missing, however the path goes on", async () => {
    const stream = { get: "/s", records: "$.itmes[*].stay" };
    const error = await failure(recordsOf(fakeApi(stream, () => ({ body: { items: [{ stay: {} }] } }))));
    expect(error).toMatchObject({ code: "RECORDS_NOT_FOUND" });
  });
});

describe("a path of records", () => {
  it.each<[string, unknown, string]>([
    ["$.rows", { rows: [{ id: 1 }] }, "Perhaps records: $.rows[*] is meant."],
    ["$[*]", { rows: [{ id: 1 }] }, "Perhaps records: $.rows[*] is meant."],
    ["$", { rows: [{ id: 1 }] }, "Perhaps records: $.rows[*] is meant."],
    ["$.data", { data: { rows: [{ id: 1 }] } }, "Perhaps records: $.data.rows[*] is meant."],
    ["$.rows[*]", { rows: [[1, 2]] }, "response: { json: { header_row: true } }"],
    ["$.rows[*]", { rows: ["a", "b"] }, "Correct the stream's `records` path"],
    ["$.rows[*]", { rows: [{ no: 1 }] }, "Correct the stream's `key`"],
  ])("%s in %j is told with what is meant", async (records, body, hint) => {
    const { run } = carried({ get: "/s", records, key: "id" }, () => ({ body }));
    const { outcome, error } = (await run()).stream;
    expect(outcome).toBe("failed");
    expect(error?.hint).toContain(hint);
  });

  it("and columns that no record fits are told; one bad record among the changes stops nothing", async () => {
    const stream: Stream = { get: "/s", key: "id", columns: { beds: { type: "int64" } } };
    let body: unknown[] = [
      { id: 1, beds: "two" },
      { id: 2, beds: "three" },
    ];
    const { run, ids } = carried(stream, () => ({ body }));
    expect((await run()).stream.error).toMatchObject({
      code: "RECORDS_NOT_FIT",
      message: expect.stringContaining("beds is declared int64, seen text"),
    });
    body = [
      { id: 1, beds: 2 },
      { id: 2, beds: "three" },
    ];
    expect((await run()).stream).toMatchObject({ outcome: "done", added: 1, quarantined: 1 });
    for (const bad of [{ id: 3, beds: "many" }, { beds: 3 }, "a word"]) {
      body = [bad];
      expect((await run()).stream).toMatchObject({ outcome: "done", added: 0, quarantined: 1 });
    }
    expect(await ids()).toEqual([1]);
  });
});

describe("a place of pages where the API says nothing", () => {
  const item = { id: 1, at: "2026-10-01T00:00:00Z" };
  const cursor = { field: "at", query: "since" };
  const size = { query: "size", records: 2 };
  const items = (count: number) => Array.from({ length: count }, (_, i) => ({ ...item, id: i }));
  const stream = (pages: Stream["pages"]): Stream => ({
    get: "/s",
    records: "$.items[*]",
    key: "id",
    cursor,
    pages,
  });
  const byToken = stream({ token: "$.paging.next", query: "page" });

  it.each<[string, Stream, Answered, string]>([
    ["token", byToken, { body: { items: items(1), paging: { next_token: "t2" } } }, "$.paging.next_token"],
    [
      "token",
      stream({ token: { header: "X-Nxt" }, query: "page" }),
      { body: { items: items(1) }, headers: { "x-next": "t2" } },
      "x-next",
    ],
    [
      "link",
      stream({ link: "$.nxt" }),
      { body: { items: items(1), links: { next: "/s?page=2" } } },
      "$.links.next",
    ],
    [
      "more",
      stream({ number: 1, query: "page", more: "$.hasmore" }),
      { body: { items: items(1), has_more: true } },
      "$.has_more",
    ],
    [
      "more",
      stream({ number: 1, query: "page", size, more: "$.more" }),
      { body: { items: items(2) } },
      "is full",
    ],
  ])("is told for %s, and the cursor stays where it was", async (key, s, answer, seen) => {
    const { run } = carried(s, () => answer);
    const { report, stream } = await run();
    expect(stream).toMatchObject({ outcome: "incomplete", cursor: undefined, added: expect.any(Number) });
    expect(report).toMatchObject({ outcome: "incomplete", error: { code: "INCOMPLETE" } });
    expect(stream.error?.message).toContain(`Nothing is at pages.${key}: `);
    expect(stream.error?.message).toContain(seen);
    expect((await run()).asked[0]).not.toContain("since");
  });

  it("is no mistake where a flag or a total says that this is the end", async () => {
    const pages = { number: 1, query: "page", size, more: "$.more", total: "$.total" };
    const { run, notices } = carried(stream(pages), () => ({ body: { items: items(2), total: 2 } }));
    await run();
    const token = { token: "$.next", query: "page", size, more: "$.more" };
    const flagged = carried(stream(token), () => ({
      body: { items: items(2), more: false, next_run: "later" },
    }));
    await flagged.run();
    expect([...notices(), ...flagged.notices()]).toEqual([]);
  });

  it.each<[string, Answered]>([
    ["is null", { body: { items: items(1), paging: { next: null }, next: "later" } }],
    ["is left out, and nothing else is like it", { body: { items: items(1), paging: { limit: 100 } } }],
    ["is left out of an empty list", { body: { items: [], next_run: "tomorrow" } }],
  ])("is no mistake where the token %s", async (_how, answer) => {
    const { run, notices } = carried(byToken, () => answer);
    expect((await run()).stream.outcome).toBe("done");
    expect(notices().filter((notice) => !notice.startsWith("Nothing came."))).toEqual([]);
  });
});

describe("a filter for changes", () => {
  const stream = (cursor: Stream["cursor"]): Stream => ({ get: "/s", key: "id", cursor });
  const old = { id: 1, at: "2026-10-01T00:00:00Z" };
  const latest = { id: 2, at: "2026-10-30T12:00:00Z" };

  it("that the API does not heed is told", async () => {
    let first = true;
    const { run, notices } = carried(stream({ field: "at", query: "sinse" }), () => ({
      body: first ? [old, latest] : [old],
    }));
    await run();
    expect(notices()).toEqual([]);
    first = false;
    await run();
    expect(notices()).toEqual([
      "All records of the first page are older than 2026-10-30T11:59:59Z, after which was asked: the API seems not to heed its parameter sinse.",
    ]);
  });

  it.each<[string, Stream["cursor"], string]>([
    ["that the API cuts to the day", { field: "at", query: "since" }, "2026-10-30T01:00:00Z"],
    ["that is ours alone", { field: "at" }, old.at],
  ])("%s is no mistake", async (_how, cursor, at) => {
    let records = [old, latest];
    const { run, notices } = carried(stream(cursor), () => ({ body: records }));
    await run();
    records = [{ id: 3, at }];
    await run();
    expect(notices()).toEqual([]);
  });
});

describe("a window whose records moved between its pages", () => {
  it("is asked for again by the next run", async () => {
    let moving = true;
    const { run } = carried(
      {
        get: "/s",
        records: "$.items[*]",
        key: "id",
        pages: { number: 1, query: "page", total: "$.total" },
        windows: { span: "P1D", from: "from", format: "date", start: "2026-10-30", end: "2026-11-01" },
      },
      ({ query }) => {
        const page = Number(query.get("page"));
        const moves = moving && query.get("from") === "2026-10-31";
        const total = moves && page > 1 ? 3 : 2;
        return { body: { items: page > total ? [] : [{ id: `${query.get("from")} ${page}` }], total } };
      },
    );
    const windows = (asked: readonly string[]) =>
      new Set(asked.map((each) => /\d{4}-\d\d-\d\d/.exec(each)?.[0]));
    expect(windows((await run()).asked)).toEqual(new Set(["2026-10-30", "2026-10-31"]));
    moving = false;
    expect(windows((await run()).asked)).toEqual(new Set(["2026-10-31"]));
    expect((await run()).asked).toEqual([]);
  });
});

describe("a report", () => {
  const report = (submit: string, state: string): Stream => ({
    report: {
      submit: { post: "/reports", id: submit },
      poll: { get: "/reports/{report_id}", state, done: ["ready"] },
      download: { get: "/file" },
    },
  });

  it.each([
    ["report.submit.id: $.id", report("$.id", "$.state")],
    ["report.submit.id: $.report", report("$.report", "$.state")],
    ["report.poll.state: $.stat", report("$.report.id", "$.stat")],
  ])("with nothing at %s is told so", async (place, stream) => {
    const fake = fakeApi(stream, ({ path }) => ({
      body: path === "/reports" ? { report: { id: "r1" } } : { state: "ready" },
    }));
    const error = await failure(recordsOf(fake));
    expect(error).toMatchObject({ code: "RECORDS_NOT_FOUND", message: expect.stringContaining(place) });
    expect(error.hint).toContain(place.split(":")[0]);
  });
});

describe("a probe", () => {
  it.each<[string, Partial<Stream>, string, string]>([
    ["good", {}, "2 records on the first page: id, at, beds", ""],
    ["bad", { pages: { token: "$.nxt", query: "p" } }, "Nothing is at pages.token: $.nxt", "INCOMPLETE"],
    [
      "bad",
      { pages: undefined },
      "The response says that there is more than its 2 records ($.next: t2)",
      "INCOMPLETE",
    ],
    [
      "note",
      { where: "record.beds > 0" },
      "1 would go to quarantine: where: record.beds > 0 cannot be judged",
      "",
    ],
    ["bad", { key: "no" }, "No record of the first page has the key no", "KEY_NOT_FOUND"],
    ["bad", { cursor: { field: "changed" } }, "cursor.field changed", "CURSOR_NOT_FOUND"],
    ["bad", { records: "$.itms[*]" }, "Nothing is at records: $.itms[*]", "RECORDS_NOT_FOUND"],
  ])("finds before a run what is %s in %j", async (outcome, stream, found, code) => {
    const items = [
      { id: 1, at: "2026-10-01", beds: 2 },
      { id: 2, at: "2026-10-02" },
    ];
    const url = await serve((_request, response) => response.end(JSON.stringify({ items, next: "t2" })));
    const connector = defineConnector({
      connector: "plain",
      api: { url, sign_in: "none" },
      streams: {
        s: { get: "/s", records: "$.items[*]", key: "id", pages: { token: "$.next", query: "p" }, ...stream },
      },
    });
    await using api = connect(connector, {});
    const line = (await probe({ api })).find(({ check }) => check === "stream s");
    expect(line).toMatchObject({ outcome, found: expect.stringContaining(found) });
    expect(line?.error?.code ?? "").toBe(code);
  });
});

describe("a duration", () => {
  const poll = (wait: string) => ({
    submit: { post: "/reports", id: "$.id" },
    poll: { get: "/reports/{report_id}", state: "$.state", done: ["ready"], wait },
    download: { get: "/file" },
  });

  it.each([
    ["10 seconds", "must be an ISO 8601 duration, such as PT30M"],
    ["-PT5S", "not be negative"],
    ["P1M", "must be in days or less"],
    ["PT0S", "must be longer than nothing"],
  ])("of %s is refused", (wait, message) => {
    const define = () =>
      defineConnector({
        connector: "fake",
        api: { url: BASE, sign_in: "none" },
        streams: { s: { report: poll(wait) } },
      });
    expect(define).toThrow(
      expect.objectContaining({ code: "CONFIG_INVALID", message: expect.stringContaining(message) }),
    );
  });
});

describe("a definition", () => {
  const windows = { span: "P1D", start: "2026-10-01", end: "2026-11-01" };
  const pages = { offset: 0, query: "from", size: { records: 50, smaller: [20] }, overlap: 5 };

  it.each<[string, object]>([
    ["windows.start must be a time", { windows: { ...windows, start: "2026-13-01" } }],
    ["windows.start must be a time", { windows: { ...windows, start: "P1Y" } }],
    ["windows.end must be later than start", { windows: { ...windows, end: "2026-10-01" } }],
    ["windows.span must be longer than nothing", { windows: { ...windows, span: "PT0S" } }],
    ["windows.overlap must be an ISO 8601 duration", { windows: { ...windows, overlap: "-P1D" } }],
    ["windows.zone must be a time zone", { windows: { ...windows, zone: "Europe/Nowhere" } }],
    ["cursor.start must be a value, or a duration", { cursor: { field: "at", start: "P90D" } }],
    ["cursor.start must be a value, or a duration", { cursor: { field: "at", start: "-P90Q" } }],
    ["pages.overlap must be less than the records of a page", { pages: { ...pages, overlap: 20 } }],
  ])("is refused: %s", (message, wrong) => {
    const define = (stream: object) =>
      defineConnector({
        connector: "fake",
        api: { url: BASE, sign_in: "none" },
        streams: { s: { get: "/s", key: "id", ...stream } },
      });
    expect(() => define({ windows, pages, ...wrong })).toThrow(
      expect.objectContaining({
        code: "CONFIG_INVALID",
        message: expect.stringContaining(`streams.s.${message}`),
      }),
    );
    const [key] = Object.keys(wrong);
    const right = { windows, pages, cursor: { field: "at", start: "-P90D" } }[key!];
    expect(define({ [key!]: right }).streams.s).toMatchObject({ get: "/s" });
  });
});
