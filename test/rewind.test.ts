/** `rewind`: cursors set back, and what the next run asks for then. */

import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { rewound } from "../src/core/track/rewind.js";
import { cover, gaps } from "../src/core/track/windows.js";
import { rewind } from "../src/index.js";
import { bridgeInto, carried } from "./support/carried.js";
import { fakeApi } from "./support/fake-api.js";
import { bookingsService, command, demoProject } from "./support/project.js";
import { queryFile } from "./support/truth.js";

const stays = [
  { id: 1, changed: "2026-01-01T00:00:00Z" },
  { id: 2, changed: "2026-02-01T00:00:00Z" },
];
const byTime = { get: "/s", key: "id", cursor: { field: "changed", query: "since" } } as const;

async function rewinding(stream: Parameters<typeof carried>[0]) {
  const { run, database, ids } = carried(stream, () => ({ body: stays }));
  await run();
  const back = async (options: Omit<Parameters<typeof rewind>[0], "bridge" | "api" | "stream"> = {}) => {
    const { api } = fakeApi({ streams: { s: stream } }, () => ({ body: [] }));
    return rewind({ bridge: await bridgeInto(database, api), api, stream: "s", ...options });
  };
  return { run, database, ids, back };
}

describe("rewind", () => {
  it("sets a cursor back to a time, written as the API writes them, or to the beginning", async () => {
    const { run, back, ids } = await rewinding(byTime);
    expect(await back({ to: "2026-01-15", apply: false })).toEqual({
      stream: "s",
      parts: [{ part: "", before: "2026-02-01T00:00:00Z", after: "2026-01-15T00:00:00Z" }],
      of: 1,
      dropped: [],
    });
    expect((await run()).asked).toEqual(["/s?since=2026-01-31T23:59:59Z"]);
    await back({ to: "2026-01-15" });
    expect((await run()).asked).toEqual(["/s?since=2026-01-14T23:59:59Z"]);
    await back();
    const third = await run();
    expect([third.asked, third.stream.unchanged]).toEqual([["/s"], 2]);
    expect(await ids()).toEqual([1, 2]);
    expect((await back({ to: "2027-01-01" })).parts).toEqual([]);
  });

  it("drops the tables where the stream is begun anew, and nothing of another", async () => {
    const { run, back, database } = await rewinding(byTime);
    expect((await back({ anew: true })).dropped).toEqual(["main.s"]);
    const tables = "SELECT table_name FROM information_schema.tables WHERE table_schema = 'main'";
    expect(await queryFile(database, tables)).toEqual([]);
    expect((await run({ streams: { s: { write: "versions" } } })).stream).toMatchObject({
      error: undefined,
      added: 2,
    });
  });

  it.each([
    ["a token of the API", { cursor: { delta: "$.next" }, records: "$.items[*]" }, "to its beginning only"],
    ["a stream that has none", { cursor: undefined }, "has no cursor"],
  ])("is refused for the cursor of %s", (_what, more, message) => {
    const rule =
      more.cursor === undefined
        ? undefined
        : {
            kind: "delta" as const,
            order: "any" as const,
            bounds: "inclusive" as const,
            format: "date_time" as const,
          };
    expect(() =>
      rewound({ value: "x" }, { cursor: rule, windows: undefined }, { to: "2026-01-01" }, 0),
    ).toThrow(message);
  });

  it("opens windows between two times, whatever was done", () => {
    const windows = { start: "2026-01-01" } as never;
    const day = fc.integer({ min: 0, max: 40 });
    const interval = fc.tuple(day, day).map(([a, b]) => [Math.min(a, b), Math.max(a, b)] as const);
    const iso = (at: number) => new Date(at).toISOString();
    fc.assert(
      fc.property(fc.array(interval, { maxLength: 6 }), interval, (done, [from, to]) => {
        const covered = done.reduce<ReturnType<typeof cover>>(
          (all, [a, b]) => cover(all, { fromMs: a, toMs: b }),
          [],
        );
        const { covered: left = [] } = rewound(
          { covered },
          { cursor: undefined, windows },
          { to: iso(from), until: iso(to) },
          0,
        );
        const isDone = (of: typeof left, at: number) => gaps(of, { fromMs: at, toMs: at + 1 }).length === 0;
        for (let at = 0; at <= 40; at++)
          expect(isDone(left, at)).toBe(isDone(covered, at) && !(at >= from && at < to));
      }),
    );
  });

  it("is said on the command line before it is done, and done only with consent", async () => {
    const service = await bookingsService({ bookings: 200 });
    const { folder } = demoProject(service.url);
    expect((await command(["run", "--plain"], folder)).code).toBe(0);
    const asked = await command(["rewind", "bookings", "bookings", "--to", "-P9Y"], folder);
    expect([asked.code, asked.stderr]).toEqual([2, expect.stringContaining("add --yes")]);
    expect(asked.stdout).toMatch(/bookings is set back:\n {2}bookings: from 20\S+ back to 20\S+/);
    const done = await command(["rewind", "bookings", "bookings", "--yes"], folder);
    expect(done.stdout).toContain("back to its beginning");
    expect(done.stdout).toContain("Next: early-bridge run bookings --stream bookings");
    const again = await command(["run", "bookings", "--stream", "bookings", "--plain"], folder);
    expect(again.stdout).toContain("bookings: reading from 2026-01-01");
    const wrong = await command(["rewind", "bookings", "bokings"], folder);
    expect([wrong.code, wrong.stderr]).toEqual([2, expect.stringContaining("Its streams: ")]);
  });
});
