import pLimit from "p-limit";
import { describe, expect, it } from "vitest";
import { NO_ROWS } from "../warehouse/row-counts.js";
import type { Committed } from "../warehouse/warehouse.js";
import { Checkpointer, NO_CURSORS } from "./checkpointer.js";

const DONE: Committed = { counts: NO_ROWS, changes: [] };

/** A clock that a test moves, and a load whose commits a test ends. */
function stage(rule = { rows: 10, everyMs: 1000 }) {
  let now = 0;
  const sleepers: { readonly atMs: number; readonly wake: () => void }[] = [];
  const commits: { readonly end: () => void; readonly fail: (error: Error) => void }[] = [];
  const log: string[] = [];
  const load = {
    waitingRows: 0,
    isFull: false,
    isHeavy: false,
    mayWait: false,
    checkpoint: () => commit("checkpoint"),
    finish: () => commit("finish"),
  };
  const commit = (kind: string) => {
    log.push(`${kind} of ${load.waitingRows}`);
    load.waitingRows = 0;
    return new Promise<Committed>((resolve, reject) =>
      commits.push({ end: () => resolve(DONE), fail: reject }),
    );
  };
  const turn = pLimit(1);
  const points = new Checkpointer({
    clock: {
      now: () => now,
      sleep: (ms, signal) =>
        new Promise((wake, stop) => {
          sleepers.push({ atMs: now + ms, wake });
          signal?.addEventListener("abort", () => stop(signal.reason));
        }),
    },
    rule,
    load,
    inTurn: (work) => turn(work),
    take: (finished) => {
      log.push(`take${finished ? " last" : ""}`);
      return { cursors: NO_CURSORS, spent: { account: "a", byGroup: new Map() } };
    },
    onCommitted: ({ number }) => log.push(`committed ${number}`),
  });
  const settled = () => new Promise((resolve) => setImmediate(resolve));
  return {
    points,
    load,
    commits,
    log,
    settled,
    async pass(ms: number) {
      now += ms;
      for (const { atMs, wake } of sleepers) if (atMs <= now) wake();
      await settled();
    },
  };
}

describe("a checkpoint", () => {
  it("is due by rows, and by time", async () => {
    const { points, load, pass } = stage();
    expect(points.isDue).toBe(false);
    load.waitingRows = 10;
    expect(points.isDue).toBe(true);
    load.waitingRows = 1;
    await pass(1000);
    expect(points.isDue).toBe(true);
  });

  it("is due by what few rows weigh, unless it may wait", () => {
    const { points, load } = stage();
    Object.assign(load, { waitingRows: 1, isHeavy: true });
    expect(points.isDue).toBe(true);
    load.mayWait = true;
    expect(points.isDue).toBe(false);
  });

  it("goes on behind the reading, and the next one waits for it", async () => {
    const { points, commits, log, settled } = stage();
    await points.checkpoint();
    const second = points.checkpoint();
    await settled();
    // its cursors are not even looked at before the first is in
    expect(log).toEqual(["take", "checkpoint of 0"]);
    commits[0]!.end();
    await second;
    expect(log).toEqual(["take", "checkpoint of 0", "committed 1", "take", "checkpoint of 0"]);
    expect(points.count).toBe(2);
  });

  it("that failed lets no later cursor pass its rows", async () => {
    const { points, commits, log } = stage();
    await points.checkpoint();
    commits[0]!.fail(new Error("the disk is full"));
    await expect(points.checkpoint()).rejects.toThrow("the disk is full");
    await expect(points.finish()).rejects.toThrow("the disk is full");
    await expect(points.settle()).rejects.toThrow("the disk is full");
    expect(log).toEqual(["take", "checkpoint of 0"]);
    await points.close();
  });

  it("is made by time alone while pages are long in coming", async () => {
    const { points, load, log, pass } = stage();
    points.arm();
    load.waitingRows = 3;
    await pass(400);
    points.arm();
    points.arm();
    await pass(599);
    expect(log).toEqual([]);
    await pass(1);
    expect(log).toEqual(["take", "checkpoint of 3"]);
  });

  it("that is made for another reason takes the timer away", async () => {
    const { points, load, commits, log, pass } = stage();
    load.waitingRows = 3;
    points.arm();
    await points.checkpoint();
    commits[0]!.end();
    load.waitingRows = 2;
    await pass(1000);
    expect(log).toEqual(["take", "checkpoint of 3", "committed 1"]);
  });

  it("at the end is waited for", async () => {
    const { points, commits, log, settled } = stage();
    const last = points.finish().then(() => log.push("finished"));
    await settled();
    expect(log).toEqual(["take last", "finish of 0"]);
    commits[0]!.end();
    await last;
    expect(log.slice(2)).toEqual(["committed 1", "finished"]);
  });

  it("is due when no more can be held, whatever speaks for waiting", () => {
    const { points, load } = stage();
    Object.assign(load, { waitingRows: 10, mayWait: true });
    expect(points.isDue).toBe(false);
    load.isFull = true;
    expect(points.isDue).toBe(true);
  });
});
