import { describe, expect, it } from "vitest";
import { type Charge, PaceGate } from "./pace-gate.js";

/** A clock that moves only when somebody sleeps on it: straight to the end of the shortest sleep. */
function steppingClock() {
  let now = 0;
  const sleeping: { readonly until: number; readonly wake: () => void }[] = [];
  return {
    now: () => now,
    sleep: (ms: number, signal?: AbortSignal) =>
      new Promise<void>((resolve, reject) => {
        const entry = { until: now + ms, wake: resolve };
        sleeping.push(entry);
        signal?.addEventListener("abort", () => {
          sleeping.splice(sleeping.indexOf(entry), 1);
          reject(signal.reason);
        });
      }),
    /** Lets time pass to the next sleeper, once all that can happen now has happened. */
    async step(): Promise<boolean> {
      await new Promise((resolve) => setImmediate(resolve));
      const next = sleeping.sort((a, b) => a.until - b.until).shift();
      if (next === undefined) return false;
      now = Math.max(now, next.until);
      next.wake();
      await new Promise((resolve) => setImmediate(resolve));
      return true;
    },
  };
}

/** Enters requests; each is answered as soon as it has gone. Gives who went when. */
async function enterAll(gate: PaceGate, clock: ReturnType<typeof steppingClock>, charges: readonly Charge[]) {
  const gone: { readonly lane: string; readonly atMs: number }[] = [];
  const all = charges.map(async (charge) => {
    const entered = await gate.enter(charge, undefined, () => {});
    gone.push({ lane: charge.lane ?? "", atMs: clock.now() });
    gate.leave(entered, {});
  });
  while (gone.length < charges.length && (await clock.step()));
  await Promise.all(all);
  return gone;
}

const lane = (name: string, count: number, charge: Charge = {}) =>
  Array.from({ length: count }, () => ({ ...charge, lane: name }));

describe("the gate", () => {
  it("lets streams take turns: a long one does not starve a short one", async () => {
    const clock = steppingClock();
    const gate = new PaceGate({ perSecond: 2, atOnce: 4 }, clock);
    const gone = await enterAll(gate, clock, [...lane("long", 20), ...lane("short", 3)]);
    // the first one goes before the short stream has asked at all
    expect(gone.slice(0, 8).filter((each) => each.lane === "short")).toHaveLength(3);
    expect(gone.at(-1)!.atMs).toBeGreaterThanOrEqual(11_000);
  });

  it("counts what a request costs", async () => {
    const clock = steppingClock();
    const gate = new PaceGate({ perMinute: 10, atOnce: 4 }, clock);
    const gone = await enterAll(gate, clock, lane("dear", 6, { cost: 4 }));
    expect(gone.map(({ atMs }) => Math.floor(atMs / 60_000))).toEqual([0, 0, 1, 1, 2, 2]);
  });

  it("keeps a group's narrower limit, and lets others pass meanwhile", async () => {
    const clock = steppingClock();
    const gate = new PaceGate({ perSecond: 100, atOnce: 4, groups: { search: { perMinute: 1 } } }, clock);
    const gone = await enterAll(gate, clock, [
      ...lane("search", 3, { group: "search" }),
      ...lane("plain", 5),
    ]);
    const at = (name: string) =>
      gone.filter((each) => each.lane === name).map(({ atMs }) => Math.floor(atMs / 60_000));
    expect(at("search")).toEqual([0, 1, 2]);
    expect(at("plain")).toEqual([0, 0, 0, 0, 0]);
  });

  it("refuses what would wait too long, with the time it can go on", async () => {
    const clock = steppingClock();
    const gate = new PaceGate({ perDay: 2, atOnce: 4, patienceMs: 60_000 }, clock);
    await enterAll(gate, clock, lane("s", 2));
    await expect(gate.enter({ lane: "s" }, undefined, () => {})).rejects.toMatchObject({
      code: "LIMIT_REACHED",
      message: expect.stringContaining("1970-01-02T00:00:00Z"),
    });
  });

  it("lets go of who is stopped while waiting, and goes on with the others", async () => {
    const clock = steppingClock();
    const gate = new PaceGate({ perMinute: 1, atOnce: 4 }, clock);
    await enterAll(gate, clock, lane("s", 1));
    const stop = new AbortController();
    const stopped = gate.enter({ lane: "s" }, stop.signal, () => {});
    const other = gate.enter({ lane: "t" }, undefined, () => {});
    stop.abort(new Error("stopped"));
    await expect(stopped).rejects.toThrow("stopped");
    while (await clock.step());
    await other;
    expect(clock.now()).toBe(60_000);
  });
});
