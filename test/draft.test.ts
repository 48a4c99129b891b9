/** `draft`: connectors found out from addresses alone, which then carry all there is. */

import { readFileSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { checkValue, parseYaml } from "../src/core/define/check.js";
import { connectorSchema } from "../src/core/define/connector-schema.js";
import { findCursors, findKey } from "../src/core/draft/find-fields.js";
import { guessPages } from "../src/core/draft/find-pages.js";
import { findRecords } from "../src/core/draft/find-records.js";
import { FieldStatistics } from "../src/core/sample/field-stats.js";
import { draftDocument } from "../src/node/draft.js";
import { BOOKINGS_DEFAULTS, NEIGHBOURS_DEFAULTS, startNeighbours } from "../src/standins/index.js";
import { logIn } from "./support/log-in.js";
import { everyNth, inLong } from "./support/long.js";
import { bookingsService, command, demoProject, temporaryFolder } from "./support/project.js";
import { serve } from "./support/serve.js";
import { queryFile } from "./support/truth.js";
import { whenDone } from "./support/when-done.js";

const key = (name: string, at: string) => `{ key: "{api_key}", ${at}, name: ${name} }`;
const sensorDays = "from=2026-01-01&to=2026-01-09";

const QUERY = "<Envelope><Body><Query><Goods>any</Goods><After>{token}</After></Query></Body></Envelope>";

/** What is drafted of each stand-in: stream, records, pages, key, cursor; then how many records a run brings. */
const TABLE = [
  ["bookings", ["/v2/huts"], "huts", "$.huts[*]", undefined, "id", undefined, 40],
  [
    "bookings",
    ["/v2/bookings"],
    "bookings",
    "$.items[*]",
    { token: "$.paging.next_token", query: "after" },
    "id",
    { field: "changed_at", query: "changed_after", overlap: "PT5M" },
    700,
  ],
  ["sensors", ["/sensors/v1/huts"], "huts", "$.huts[*]", undefined, "id", undefined, 12],
  [
    "sensors",
    [`/sensors/v1/huts/3/readings?${sensorDays}`],
    "readings",
    "$.readings[*]",
    { number: 1, query: "page", size: { query: "per_page", records: 50 } },
    "at",
    undefined,
    192,
  ],
  [
    "feedback",
    ["/feedback/v1/comments"],
    "comments",
    "$.comments[*]",
    { offset: 0, query: "offset", total: "$.total", overlap: 5, size: { query: "limit", records: 20 } },
    "id",
    undefined,
    undefined,
  ],
  ["notices", ["/notices/v1/notices"], "notices", "$.items[*]", { link: "header" }, "id", undefined, 25],
  ["logbook", ["/logbook/v1/values"], "values", "$.values[*]", undefined, "id", undefined, 300],
  [
    "crew",
    ["/crew/v1/objects/shift/rows?fields=id,warden,hut_id"],
    "rows",
    "$.rows[*]",
    { after: "id", query: "after" },
    "id",
    undefined,
    90,
  ],
  [
    "deliveries",
    ["/deliveries/v1/query", "--post", QUERY],
    "query",
    "$.Envelope.Body.Deliveries.Delivery[*]",
    { token: "$.Envelope.Body.More.after" },
    "number",
    undefined,
    61,
  ],
  ["stores", ["/stores/odata/"], "items", undefined, undefined, undefined, { field: "ChangedAt" }, 80],
] as const;

const SIGN_INS: Readonly<Record<string, readonly [string, Readonly<Record<string, string>>]>> = {
  bookings: [
    '{ oauth2: client_credentials, token_url: "{+base}/oauth/token", scope: bookings.read }',
    {
      BOOKINGS_CLIENT_ID: BOOKINGS_DEFAULTS.clientId,
      BOOKINGS_CLIENT_SECRET: BOOKINGS_DEFAULTS.clientSecret,
    },
  ],
  sensors: [key("key", "in: query"), { SENSORS_API_KEY: NEIGHBOURS_DEFAULTS.sensorsKey }],
  feedback: [key("x-guest-book", "in: header"), { FEEDBACK_API_KEY: NEIGHBOURS_DEFAULTS.feedbackKey }],
  notices: [
    '{ session: { post: /login, form: { user: "{user}", password: "{password}" }, cookie: SID, sign_out: /logout } }',
    { NOTICES_USER: NEIGHBOURS_DEFAULTS.noticesUser, NOTICES_PASSWORD: NEIGHBOURS_DEFAULTS.noticesPassword },
  ],
  logbook: [
    '{ oauth2: jwt_bearer, token_url: "{+base}/logbook/token", key_file: "{key_file}", scope: log.read }',
    { LOGBOOK_KEY_FILE: "./robot-key.json" },
  ],
  crew: [key("x-crew-key", "in: header"), { CREW_API_KEY: NEIGHBOURS_DEFAULTS.crewKey }],
  deliveries: [
    "basic",
    {
      DELIVERIES_USER: NEIGHBOURS_DEFAULTS.deliveriesUser,
      DELIVERIES_PASSWORD: NEIGHBOURS_DEFAULTS.deliveriesPassword,
    },
  ],
  stores: [
    "basic",
    { STORES_USER: NEIGHBOURS_DEFAULTS.storesUser, STORES_PASSWORD: NEIGHBOURS_DEFAULTS.storesPassword },
  ],
};

describe("a draft of each stand-in, by its address and credentials alone", () => {
  const services = async () => {
    const bookings = await bookingsService({ bookings: 700 });
    const neighbours = await startNeighbours();
    whenDone(() => neighbours.close());
    return { bookings, neighbours };
  };

  // each is four processes: half of them do for the short run
  const some = everyNth(TABLE, 18);

  it.each(some)("%s %s", async (name, paths, stream, records, pages, keyed, cursor, rows) => {
    const { bookings, neighbours } = await services();
    const folder = temporaryFolder();
    writeFileSync(join(folder, "robot-key.json"), neighbours.robotKeyFile, { mode: 0o600 });
    const [signIn, env] = SIGN_INS[name]!;
    const base = name === "bookings" ? bookings.url : neighbours.url;
    const sources = paths.map((path) => (path.startsWith("/") ? base + path : path));
    const drafted = await command(["draft", ...sources, "--name", name, "--sign-in", signIn], folder, env);
    expect(drafted.stderr).toBe("");
    const text = readFileSync(join(folder, `connectors/${name}.connector.yaml`), "utf8");
    const file = parseYaml(text, "draft");
    checkValue(connectorSchema, file.value, file);
    const found = (file.value as { streams: Record<string, Record<string, unknown>> }).streams[stream];
    expect([found?.records, found?.pages, found?.key, found?.cursor]).toEqual([
      records,
      pages,
      keyed,
      cursor,
    ]);
    // every guess has its reason beside it, or above it
    for (const line of text.split("\n").filter((each) => /^ {4}(records|pages|key|cursor): /.test(each)))
      expect(
        line.includes(" # ") ||
          text.includes(`\n    # ${text.split(`\n${line}`)[0]!.split("\n    # ").at(-1)!}\n${line}`),
      ).toBe(true);
    const probed = await command(["probe", name], folder, env);
    expect([probed.code, probed.stdout]).toEqual([0, expect.stringContaining("All is well")]);
    const ran = await command(["run", name, "--plain"], folder, env);
    expect([ran.code, ran.stderr]).toEqual([0, ""]);
    const counted = `SELECT count(*)::INTEGER AS n FROM ${name}.${stream}`;
    const [truth] = name === "feedback" ? [await feedbackNow(base)] : [rows];
    const [row] = await queryFile(join(folder, "warehouse.duckdb"), counted);
    if (name === "feedback") expect(Math.abs(Number(row?.n) - truth!)).toBeLessThan(6);
    else expect(row).toEqual({ n: truth });
    expect(text).not.toContain(Object.values(env).at(-1));
  });

  /** Its list changes with every few requests. */
  async function feedbackNow(url: string): Promise<number> {
    return ((await (await fetch(`${url}/_feedback`)).json()) as unknown[]).length;
  }

  inLong("of an API that a person signs in to, once somebody has", async () => {
    const { neighbours } = await services();
    const folder = temporaryFolder();
    const client = NEIGHBOURS_DEFAULTS.membersClient;
    const env = {
      EARLY_BRIDGE_CONFIG: join(folder, "config"),
      EARLY_BRIDGE_KEY: "k",
      PEOPLE_CLIENT_ID: client,
      MEMBERS_CLIENT_ID: client,
    };
    const at = `{+base}/members`;
    const signIn = `{ oauth2: authorization_code, client_id: "{client_id}", authorize_url: "${at}/authorize", token_url: "${at}/token", scope: members.read }`;
    const sources = [`${neighbours.url}/members/odata`, "--name", "members", "--sign-in", signIn];
    const early = await command(["draft", ...sources], folder, env);
    expect(early.stderr).toContain("A person has to sign in first");
    await command(["init", "--name", "people", "--base", neighbours.url, "--sign-in", signIn], folder, env);
    expect((await logIn({ folder }, env, "main")).code).toBe(0);
    const drafted = await command(["draft", ...sources, "--account", "main"], folder, env);
    expect([drafted.stderr, drafted.stdout]).toEqual([
      "",
      expect.stringContaining("early-bridge login members"),
    ]);
    expect((await logIn({ folder }, env)).code).toBe(0);
    const ran = await command(["run", "members"], folder, env);
    expect([ran.code, ran.stderr]).toEqual([0, ""]);
    const counts =
      "SELECT (SELECT count(*) FROM members.members)::INTEGER AS members, (SELECT count(*) FROM members.clubs)::INTEGER AS clubs";
    expect(await queryFile(join(folder, "warehouse.duckdb"), counts)).toEqual([{ members: 120, clubs: 3 }]);
  });

  inLong("says what to fill in where an address wants more than GET, and overwrites nothing", async () => {
    const { neighbours } = await services();
    const folder = temporaryFolder();
    const [signIn, env] = SIGN_INS.notices!;
    const draft = (path: string, ...more: string[]) =>
      command(["draft", neighbours.url + path, ...more], folder, env);
    const unsigned = await draft("/stores/v0/items", "--name", "x");
    expect(unsigned).toMatchObject({ code: 4, stderr: expect.stringContaining("NOT_FOUND") });
    expect(unsigned.stderr).toContain("A draft asks by GET alone");
    const refused = await draft("/feedback/v1/comments");
    expect(refused.stderr).toContain("next   Say how one signs in: --sign-in basic, bearer, key");
    const needy = await draft(
      "/crew/v1/objects/shift/rows",
      "--name",
      "crew",
      "--sign-in",
      SIGN_INS.crew![0],
    );
    expect(needy).toMatchObject({
      code: 2,
      stderr: expect.stringContaining("The sign-in needs CREW_API_KEY"),
    });
    const first = await draft("/notices/v1/notices", "--name", "notices", "--sign-in", signIn);
    expect(first.code).toBe(0);
    const before = readFileSync(join(folder, "connectors/notices.connector.yaml"), "utf8");
    const second = await draft("/notices/v1/notices", "--name", "notices", "--sign-in", signIn);
    expect([second.code, second.stderr]).toEqual([2, expect.stringContaining("nothing is written over it")]);
    expect(readFileSync(join(folder, "connectors/notices.connector.yaml"), "utf8")).toBe(before);
  });

  it("believes nothing that it has not tried", async () => {
    // a total and a token that lead nowhere, and a list that is there on every page
    const origin = await serve((_request, response) =>
      response.end(
        JSON.stringify({
          total: 900,
          next_token: "x",
          items: Array.from({ length: 20 }, (_, id) => ({ id })),
        }),
      ),
    );
    const folder = temporaryFolder();
    const drafted = await command(["draft", `${origin}/things`, "--name", "liar"], folder);
    expect(drafted.stdout).toMatch(/things +\$\.items\[\*\] +one page +id/);
    expect(drafted.stdout).toContain("whether there are more than these 20 records");
  });
});

describe("what is found in responses", () => {
  it.each([
    [[{ id: 1 }], "$[*]"],
    [{ data: [{ id: 1 }], errors: [] }, "$.data[*]"],
    [{ meta: { tags: [{ t: 1 }] }, stays: [{ id: 1 }] }, "$.stays[*]"],
    [{ result: { "stay rows": [{ id: 1 }] } }, '$.result["stay rows"][*]'],
    [
      {
        values: [
          ["id", "n"],
          [1, 2],
        ],
      },
      "$.values[*]",
    ],
    [{ status: "ok" }, undefined],
    ["text", undefined],
  ])("%j has records at %s", (body, path) => {
    expect(findRecords(body, "stays")?.value.path).toBe(path);
  });

  it("is a key only if it is there and different in all records, whatever they hold", () => {
    const record = fc.record({
      id: fc.integer({ max: 5 }),
      code: fc.string(),
      at: fc.constant("2026-01-01"),
    });
    fc.assert(
      fc.property(fc.array(record, { maxLength: 8 }), (records) => {
        const statistics = new FieldStatistics();
        for (const each of records) statistics.add(each);
        const found = findKey(statistics.result(), records, "things");
        if (found === undefined) return;
        const values = records.map((each) => found.value.map((path) => each[path as "id"]).join("\n"));
        expect(new Set(values).size).toBe(records.length);
      }),
    );
  });

  it("are cursors, the time of the change before others", () => {
    const statistics = new FieldStatistics();
    statistics.add({
      born: "2026-01-01",
      created_at: "2026-01-01T00:00:00Z",
      meta: { modifiedOn: "2026-01-02" },
    });
    expect(findCursors(statistics.result()).map(({ value }) => value)).toEqual([
      "meta.modifiedOn",
      "created_at",
    ]);
  });

  it("are ways to a next page, those that the response tells before those that are only usual", () => {
    const records = Array.from({ length: 20 }, (_, id) => ({ id }));
    const guess = (body: object, headers = {}) => {
      const found = findRecords({ items: records, ...body }, "items")!.value;
      const seen = { url: "https://api.huts.example/items", headers, body: { items: records, ...body } };
      return guessPages(seen, found, ["id"])[0]?.value;
    };
    expect(guess({}, { link: '<https://api.huts.example/items?p=2>; rel="next"' })).toEqual({
      link: "header",
    });
    expect(guess({ links: { next: "/items?page=2" } })).toEqual({ link: "$.links.next" });
    expect(guess({ meta: { next_cursor: "abc" } })).toMatchObject({ token: "$.meta.next_cursor" });
    expect(guess({ total: 90 })).toEqual({ offset: 0, query: "offset", total: "$.total" });
    expect(guess({ total_pages: 5 })).toEqual({ number: 1, query: "page", total_pages: "$.total_pages" });
    expect(guess({})).toEqual({ number: 1, query: "page" });
    expect(guess({ total: 20 })).toBeUndefined();
  });
});

describe("a draft of recorded exchanges", () => {
  const records = (from: number, count = 20) =>
    Array.from({ length: count }, (_, i) => ({ id: from + i, n: "x" }));
  const entry = (
    path: string,
    body: unknown,
    headers: Record<string, string> = {},
    sent: Record<string, string> = {},
  ) => {
    const list = (of: Record<string, string>) => Object.entries(of).map(([name, value]) => ({ name, value }));
    return {
      request: { method: "GET", url: `https://api.huts.example/v1${path}`, headers: list(sent) },
      response: { status: 200, headers: list(headers), content: { text: JSON.stringify(body) } },
    };
  };
  const drafted = (...entries: unknown[]) => draftDocument({ log: { entries } }, { name: "seen" });

  it.each([
    [
      { token: "$.next", query: "after" },
      entry("/stays", { items: records(0), next: "abc" }),
      entry("/stays?after=abc", { items: records(20) }),
    ],
    [
      { link: "$.links.next" },
      entry("/stays", { items: records(0), links: { next: "/v1/stays?p=2" } }),
      entry("/stays?p=2", { items: records(20) }),
    ],
    [
      { link: "header" },
      entry("/stays", { items: records(0) }, { Link: '</v1/stays?page=2>; rel="next"' }),
      entry("/stays?page=2", { items: records(20) }),
    ],
    [
      { offset: 0, query: "skip" },
      entry("/stays", { items: records(0) }),
      entry("/stays?skip=20", { items: records(20) }),
    ],
    [
      { number: 1, query: "page" },
      entry("/stays?page=1", { items: records(0) }),
      entry("/stays?page=2", { items: records(20) }),
    ],
    [
      { after: "id", query: "since" },
      entry("/stays", { items: records(100) }),
      entry("/stays?since=119", { items: records(120) }),
    ],
    [undefined, entry("/stays", { items: records(0) }), entry("/stays?sort=n", { items: records(0) })],
  ] as const)("has the pages that were seen: %j", (pages, ...entries) => {
    const [stream] = drafted(...entries).draft.streams;
    expect(stream?.pages?.value).toEqual(pages);
    expect([stream?.records?.value, stream?.key?.value]).toEqual(["$.items[*]", ["id"]]);
  });

  it("knows ids in paths, parameters that never change, and how requests were signed; and keeps no secret", () => {
    const signed = { Authorization: "Bearer moon-over-the-pass" };
    const { text, draft } = drafted(
      entry("/huts?lang=sl", records(1, 3), {}, signed),
      entry("/huts/1/stays?lang=sl&api_key=moonlight", records(7, 3), {}, signed),
      entry("/huts/2/stays?lang=sl&api_key=moonlight", records(7, 2), {}, signed),
      { request: { method: "POST", url: "https://api.huts.example/v1/search" }, response: { status: 200 } },
      { request: {}, response: {} },
      "nothing",
    );
    expect(text).not.toContain("moon");
    expect(draft.signIn.value).toBe('{ bearer: "{token}" }');
    expect(draft.said.at(-1)).toBe("left out: POST /v1/search, which has to be written by hand");
    const file = parseYaml(text, "draft");
    const { streams } = checkValue(connectorSchema, file.value, file);
    expect(Object.entries(streams)).toMatchObject([
      ["huts", { get: "/huts", query: { lang: "sl" }, key: "id" }],
      [
        "stays",
        {
          get: "/huts/{hut_id}/stays",
          each: { hut_id: { stream: "huts", field: "id" } },
          add: { hut_id: "{hut_id}" },
          key: ["hut_id", "id"],
        },
      ],
    ]);
    expect(() => drafted()).toThrow("No exchange of the recording");
  });

  inLong("that a run has made carries the same again", async () => {
    const service = await startNeighbours();
    whenDone(() => service.close());
    const { folder } = demoProject("http://127.0.0.1:9", service.url);
    const har = join(folder, "notices.har");
    await command(["run", "notices", "--record", har], folder);
    const elsewhere = temporaryFolder();
    const made = await command(["draft", har, "--name", "seen"], elsewhere);
    expect(made.stdout).toMatch(/notices +\$\.items\[\*\] +by link header +id/);
    // a recording holds no credentials: how one signs in is to be said
    const connector = join(elsewhere, "connectors/seen.connector.yaml");
    const [signIn, env] = SIGN_INS.notices!;
    const text = readFileSync(connector, "utf8");
    const settings = "settings:\n  user: { type: string }\n  password: { type: string, secret: true }";
    writeFileSync(
      connector,
      text.replace(/sign_in: none/, `sign_in: ${signIn}`).replace(/settings:.*/, settings),
    );
    const bridges = join(elsewhere, "bridges.yaml");
    const before = readFileSync(bridges, "utf8");
    writeFileSync(
      bridges,
      before.replace(/( +)base:.*/, "$&\n$1user: $NOTICES_USER\n$1password: $NOTICES_PASSWORD"),
    );
    const ran = await command(["run", "seen"], elsewhere, env);
    expect([ran.code, ran.stderr]).toEqual([0, ""]);
    expect(
      await queryFile(join(elsewhere, "warehouse.duckdb"), "SELECT count(*)::INTEGER AS n FROM seen.notices"),
    ).toEqual([{ n: 25 }]);
  });
});
