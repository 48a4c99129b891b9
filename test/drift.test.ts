/** Data that changes its form: what a bridge's policy does with it, and what the journal tells. */

import { readFileSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { describe, expect, it } from "vitest";
import { carried } from "./support/carried.js";
import { inLong } from "./support/long.js";
import { bookingsService, command, demoProject } from "./support/project.js";
import { queryFile } from "./support/truth.js";
import { isFolders } from "./support/warehouse.js";

type Drift = {
  new_column?: "add" | "ignore" | "stop";
  new_table?: "add" | "ignore" | "stop";
  type_change?: "widen" | "quarantine" | "stop";
};

const before = [{ id: 1, beds: 4, rooms: [{ no: 1 }] }];
const after = [
  {
    id: 1,
    beds: 4,
    rooms: [{ no: 1, view: "Lake-7" }],
    phone: "+43 660 1234567",
    extras: [{ name: "sauna" }],
  },
  { id: 2, beds: "many", rooms: [] },
];

async function drifting(policy: Drift) {
  let now: readonly unknown[] = before;
  const { run, database, events } = carried({ get: "/s", key: "id" }, () => ({ body: now }));
  const streams = { s: { drift: policy } };
  expect((await run({ streams })).stream.error).toBeUndefined();
  now = after;
  const { stream } = await run({ streams });
  const columns = await queryFile(
    database,
    "SELECT table_name || '.' || column_name AS c FROM information_schema.columns WHERE table_schema = 'main' ORDER BY 1",
  );
  const journal = await queryFile(
    database,
    "SELECT change, table_name AS t, column_name AS c, from_type AS f, to_type AS o, path, example, stream FROM early_bridge.schema_changes WHERE run = 2 ORDER BY ALL",
  );
  const own = columns.map(({ c }) => String(c)).filter((name) => !/\.(eb_|s_id)/.test(name));
  return { stream, columns: own, journal, events };
}

describe("a field that stops coming", () => {
  const journal = (database: string) =>
    queryFile(
      database,
      `SELECT run::INTEGER AS run, change, column_name AS c, from_type AS f, to_type AS o FROM early_bridge.schema_changes
       WHERE change LIKE 'column_%ed' AND change <> 'column_added' ORDER BY ALL`,
    );
  const rows = (from: number, count: number, more: object) =>
    Array.from({ length: count }, (_, i) => ({ id: from + i, at: from + i, ...more }));

  it("is told once where the whole stream has no value of it, and told when it comes again, of another type", async () => {
    let body: unknown = rows(0, 25, { beds: 4, phone: "x" });
    const { run, database } = carried({ get: "/s", key: "id" }, () => ({ body }));
    await run();
    body = rows(0, 25, { phone: "x" });
    await run();
    await run();
    expect(await journal(database)).toEqual([
      { run: 2, change: "column_stopped", c: "beds", f: "int64", o: null },
    ]);
    // files have the ledger's tables, and none of its views
    const report = isFolders ? "columns" : "column_report";
    const seen = `SELECT first_seen_at::VARCHAR AS first, last_seen_at::VARCHAR AS last, has_stopped AS stopped
      FROM early_bridge.${report} WHERE column_name IN ('beds', 'phone') ORDER BY column_name`;
    const [beds, phone] = await queryFile(database, seen);
    expect([beds!.stopped, phone!.stopped]).toEqual([true, false]);
    expect(beds!.first).toBe(phone!.first);
    expect(String(beds!.last) < String(phone!.last)).toBe(true);
    body = rows(0, 25, { beds: "many", phone: "x" });
    await run();
    expect((await journal(database)).slice(1)).toEqual([
      { run: 4, change: "column_returned", c: "beds", f: "int64", o: "text" },
    ]);
  });

  it("is told after a thousand rows, over runs that bring a few each", async () => {
    let body: unknown = rows(0, 3, { beds: 4 });
    const { run, database } = carried(
      { get: "/s", key: "id", cursor: { field: "at", query: "since" } },
      () => ({
        body,
      }),
    );
    await run();
    for (let n = 1; n <= 3; n++) {
      body = rows(n * 400, 400, {});
      await run();
    }
    expect(await journal(database)).toEqual([
      { run: 4, change: "column_stopped", c: "beds", f: "int64", o: null },
    ]);
  });
});

describe("a field, a list and a type that are new", () => {
  it("are taken in, and journaled with what they looked like", async () => {
    const { stream, columns, journal } = await drifting({});
    expect(stream).toMatchObject({ error: undefined, changed: 1, added: 1 });
    expect(columns).toEqual(["s.beds", "s.id", "s.phone", "s_extras.name", "s_rooms.no", "s_rooms.view"]);
    const of = { stream: "s" };
    expect(journal).toEqual([
      {
        change: "column_added",
        t: "s",
        c: "phone",
        f: null,
        o: "text",
        path: "phone",
        example: "+99 999 9999999",
        ...of,
      },
      {
        change: "column_added",
        t: "s_rooms",
        c: "view",
        f: null,
        o: "text",
        path: "rooms[*].view",
        example: "Xxxx-9",
        ...of,
      },
      {
        change: "table_added",
        t: "s_extras",
        c: null,
        f: null,
        o: null,
        path: "extras[*]",
        example: null,
        ...of,
      },
      {
        change: "type_widened",
        t: "s",
        c: "beds",
        f: "int64",
        o: "text",
        path: "beds",
        example: "xxxx",
        ...of,
      },
    ]);
  });

  it("are left out and journaled, or kept from the table, where the policy says so", async () => {
    const { stream, columns, journal } = await drifting({
      new_column: "ignore",
      new_table: "ignore",
      type_change: "quarantine",
    });
    expect(stream).toMatchObject({ error: undefined, quarantined: 1, added: 0 });
    expect(columns).toEqual(["s.beds", "s.id", "s_rooms.no"]);
    expect(journal.map(({ change, t, path, example }) => [change, t, path, example])).toEqual([
      ["column_ignored", "s", "phone", "+99 999 9999999"],
      ["column_ignored", "s_rooms", "rooms[*].view", "Xxxx-9"],
      ["table_ignored", "s", "extras[*]", null],
    ]);
  });

  it.each<[Drift, string]>([
    [{ new_column: "stop" }, "Table s_rooms has no column for the field rooms[*].view, such as Xxxx-9."],
    [{ new_table: "stop" }, "There is no table for the list extras[*] of s."],
    [{ type_change: "stop" }, "Column beds is int64, and text is needed for what came, such as xxxx."],
  ])("stop the stream before anything is written: %j", async (policy, message) => {
    const { stream, columns, journal } = await drifting(policy);
    expect(stream.error).toMatchObject({ code: "DRIFT_STOPPED", message });
    expect([stream.added, stream.changed, journal]).toEqual([0, 0, []]);
    expect(columns).toEqual(["s.beds", "s.id", "s_rooms.no"]);
  });

  it("do not stop a first run, nor what the connector declares", async () => {
    const policy = { new_column: "stop", new_table: "stop", type_change: "stop" } as const;
    let columns = {};
    let now: readonly unknown[] = before;
    const database = carried({ get: "/s", key: "id" }, () => ({ body: now }));
    const streams = () => ({ streams: { s: { drift: policy, columns } } });
    expect((await database.run(streams())).stream.error).toBeUndefined();
    now = [{ id: 1, beds: 4, rooms: [{ no: 1, view: "lake" }], phone: "1" }];
    columns = { phone: { type: "text" }, "rooms[*].view": { type: "text" } };
    expect((await database.run(streams())).stream).toMatchObject({ error: undefined, changed: 1 });
  });
});

describe("the drift command", () => {
  inLong("tells the story run by run", async () => {
    const service = await bookingsService({ bookings: 120 });
    const { folder } = demoProject(service.url);
    expect((await command(["run", "--plain"], folder)).code).toBe(0);
    const path = join(folder, "connectors/bookings.connector.yaml");
    const text = readFileSync(path, "utf8");
    writeFileSync(
      path,
      text.replace(
        /^ {4}get: \/bookings$/m,
        '    get: /bookings\n    compute: { nights_code: "record.reference" }',
      ),
    );
    await command(["rewind", "bookings", "bookings", "--yes"], folder);
    expect((await command(["run", "bookings", "--plain"], folder)).code).toBe(0);
    const { stdout } = await command(["drift"], folder);
    expect(stdout).toMatch(/run 1 {2}bookings {2}20\S+ \S+\n {2}\d new tables?: bookings\./);
    expect(stdout).toContain("bookings.bookings: new column nights_code text, such as XX-9999999");
    const lines = (await command(["drift", "bookings", "--json"], folder)).stdout.trim().split("\n");
    expect(JSON.parse(lines.at(-1)!)).toMatchObject({
      type: "change",
      change: "column_added",
      run: 2,
      bridge: "bookings",
    });
    expect((await command(["drift", "nobody"], folder)).code).toBe(2);
  });
});
