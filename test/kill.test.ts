/** The process is killed at seeded moments and started again: no row is lost, none is there twice. */

import { describe, expect, it } from "vitest";
import { randomAt } from "../src/standins/random.js";
import { bookingsService, command, demoProject, startCommand, type TestProject } from "./support/project.js";
import { expectTruth, queryFile } from "./support/truth.js";

const KILLS = Number(process.env.EARLY_BRIDGE_KILLS ?? 25);
const SEED = 20_261_123;

/** Starts a run and kills it a few ms after the service has seen so many requests. True when it was still alive. */
async function killedRun(
  project: TestProject,
  requests: () => number,
  afterRequests: number,
  delayMs: number,
): Promise<boolean> {
  const before = requests();
  const running = startCommand(["run", "--plain"], project.folder);
  const watch = setInterval(() => {
    if (requests() - before < afterRequests) return;
    clearInterval(watch);
    setTimeout(() => running.child.kill("SIGKILL"), delayMs);
  }, 1);
  const { code } = await running.ended;
  clearInterval(watch);
  return code === null;
}

describe("a killed process", () => {
  it(
    `loses no row and doubles none, at ${KILLS} moments`,
    async () => {
      const service = await bookingsService({ bookings: 2400, seed: 3 });
      const requests = () => service.log.length;
      let project = demoProject(service.url);
      const small = (each: TestProject) => {
        each.edit("bridges.yaml", "to: local\n", "to: local\n    checkpoint: { rows: 500 }\n");
        each.edit("connectors/bookings.connector.yaml", "per_page: 500", "per_page: 100");
        each.edit("connectors/bookings.connector.yaml", ", at_once: 4", "");
        each.edit("connectors/bookings.connector.yaml", "per_second: 20", "per_second: 100000");
      };
      small(project);
      let killed = 0;
      let midStream = 0;
      for (let moment = 0; moment < KILLS; moment++) {
        // every fourth time into a new warehouse, so that first loads are killed as well as later ones
        if (moment % 4 === 0 && moment > 0) {
          project = demoProject(service.url);
          small(project);
        }
        const afterRequests = 1 + Math.floor(randomAt(SEED, moment * 2) * (moment % 4 === 0 ? 26 : 3));
        const delayMs = Math.floor(randomAt(SEED, moment * 2 + 1) * 120);
        if (await killedRun(project, requests, afterRequests, delayMs)) killed++;
        const kept = await queryFile(
          project.database,
          "SELECT count(*)::INTEGER AS n FROM early_bridge.cursors",
        ).catch(() => []);
        if (Number(kept[0]?.n ?? 0) > 0) midStream++;
        const again = await command(["run", "--plain"], project.folder);
        expect(again, `seed ${SEED}, moment ${moment}: ${again.stdout}${again.stderr}`).toMatchObject({
          code: 0,
        });
        await expectTruth(service.url, project.database, moment > 0);
        service.store.tick(60, 5);
      }
      // the moments must have been real ones: most hit a living process, many of them behind a checkpoint
      expect(killed).toBeGreaterThan(KILLS / 2);
      expect(midStream).toBeGreaterThan(KILLS / 3);
      const runs = await queryFile(
        project.database,
        "SELECT DISTINCT outcome FROM early_bridge.runs ORDER BY outcome",
      );
      expect(runs.map((row) => row.outcome)).toContain("done");
    },
    KILLS * 12_000,
  );
});
