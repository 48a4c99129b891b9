/** Write modes through runs: what is kept of changes, and what happens when a bridge is told another way. */

import { describe, expect, it } from "vitest";
import { planBridge } from "../src/index.js";
import { bridgeInto, carried } from "./support/carried.js";
import { fakeApi } from "./support/fake-api.js";
import { queryFile } from "./support/truth.js";

const stream = {
  get: "/s",
  key: "id",
  cursor: { field: "changed", query: "since" },
  gone: "record.gone == true",
} as const;

describe("a stream that is carried in versions", () => {
  it("keeps each state with its times, goes on by its cursor, and refuses another way of writing", async () => {
    let now: unknown[] = [
      { id: 1, beds: 4, changed: "2026-01-01T00:00:00Z", rooms: [{ no: 1 }] },
      { id: 2, beds: 6, changed: "2026-01-02T00:00:00Z" },
    ];
    const { run, database } = carried(stream, () => ({ body: now }), 1);
    const versions = { streams: { s: { write: "versions" } } } as const;
    expect((await run(versions)).stream).toMatchObject({ error: undefined, added: 2 });
    now = [
      { id: 1, beds: 4, changed: "2026-01-01T00:00:00Z", rooms: [{ no: 1 }] },
      { id: 1, beds: 5, changed: "2026-01-03T00:00:00Z", rooms: [{ no: 1 }, { no: 2 }] },
      { id: 2, gone: true },
    ];
    const second = await run(versions);
    expect(second.asked).toEqual(["/s?since=2026-01-01T23:59:59Z"]);
    expect(second.stream).toMatchObject({ error: undefined, changed: 1, unchanged: 1, removed: 1 });
    const rows = await queryFile(
      database,
      "SELECT id::INTEGER AS id, beds::INTEGER AS beds, strftime(eb_valid_from, '%m-%d') AS f, strftime(eb_valid_to, '%m-%d') AS t, eb_deleted_at IS NOT NULL AS gone, (SELECT count(*)::INTEGER FROM s_rooms AS r WHERE r.s_id = s.id AND r.eb_valid_from = s.eb_valid_from) AS rooms FROM s ORDER BY 1, 3",
    );
    expect(rows.slice(0, 2)).toEqual([
      { id: 1, beds: 4, f: "01-01", t: "01-03", gone: false, rooms: 1 },
      { id: 1, beds: 5, f: "01-03", t: null, gone: false, rooms: 2 },
    ]);
    expect(rows[2]).toMatchObject({ id: 2, gone: true });
    const other = await run();
    expect(other.stream.error).toMatchObject({
      code: "WRITE_CHANGED",
      message: "The table main.s stands, and was written by versions.",
    });
    expect(other.asked).toEqual([]);
    const { api } = fakeApi({ streams: { s: stream } }, () => ({ body: [] }));
    const [plan] = await planBridge(await bridgeInto(database, api), api);
    expect(plan?.warnings.join()).toContain("stands and was written by versions: a run stops");
    const [same] = await planBridge(await bridgeInto(database, api, versions), api);
    expect(same?.warnings.join()).not.toContain("stands");
  });

  it("is refused with another key", async () => {
    const rekeyed = carried({ get: "/s", key: "id" }, () => ({ body: [{ id: 1, no: 1 }] }));
    await rekeyed.run();
    const { api } = fakeApi({ streams: { s: { get: "/s", key: "no" } } }, () => ({
      body: [{ id: 1, no: 1 }],
    }));
    const bridge = await bridgeInto(rekeyed.database, api);
    expect((await bridge.run()).error?.message).toBe(
      "The table main.s stands, and was written with the key id.",
    );
  });

  it("does not go with deletes where nothing is deleted", async () => {
    const { run } = carried(stream, () => ({ body: [] }));
    await expect(run({ streams: { s: { write: "append", deletes: "mark" } } })).rejects.toMatchObject({
      code: "CONFIG_INVALID",
    });
  });
});
