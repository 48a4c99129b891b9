/** Services that fail: the tables still equal the truth, and what cannot be mended is told. */

import { describe, expect, it } from "vitest";
import { openProject, type RunEvent, type RunReport } from "../src/index.js";
import { everyNth } from "./support/long.js";
import { bookingsService, demoProject } from "./support/project.js";
import { expectTruth } from "./support/truth.js";

const quick = { retry: { baseMs: 5, capMs: 40 } };

async function runQuickly(folder: string, onEvent: (event: RunEvent) => void = () => {}): Promise<RunReport> {
  const { bridge, close } = await (await openProject(folder)).openBridge("bookings", quick);
  try {
    return await bridge.run({ onEvent });
  } finally {
    await close();
  }
}

describe("a service that fails one time in five", () => {
  it.each(everyNth([11, 12, 13], 3))("is read to the end, whole (seed %i)", async (seed) => {
    const service = await bookingsService({ bookings: 9000, failing: 0.2, seed });
    const project = demoProject(service.url);
    project.edit("connectors/bookings.connector.yaml", "per_page: 500", "per_page: 100");
    project.edit("connectors/bookings.connector.yaml", "per_second: 20", "per_second: 100000");
    const whys = new Set<string>();
    const report = await runQuickly(project.folder, (event) => {
      if (event.type === "retry") whys.add(event.why.replace(/\d+/g, "#").replace(/\(.*/, ""));
    });
    expect(report, JSON.stringify(report.error)).toMatchObject({ outcome: "done" });
    expect(report.streams.reduce((sum, each) => sum + each.retries, 0)).toBeGreaterThan(10);
    // all four kinds of faults were met: status, lost connection, cut body, web page
    expect(whys.size).toBeGreaterThanOrEqual(4);
    await expectTruth(service.url, project.database, false);
  });

  it("and says after the last try what it met; rows and cursor stay at the last checkpoint", async () => {
    const service = await bookingsService({ bookings: 2000, seed: 2 });
    const project = demoProject(service.url);
    expect((await runQuickly(project.folder)).outcome).toBe("done");
    service.store.usualTick();
    await service.close();
    const report = await runQuickly(project.folder);
    expect(report).toMatchObject({ outcome: "failed", error: { code: "CONNECTION_REFUSED" } });
    expect(report.error?.message).toContain("tried 3 times");
  });
});
