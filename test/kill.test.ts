/** The process is killed at seeded moments and started again: no row is lost, none is there twice. */

import { describe, expect, it } from "vitest";
import { KILLS, killedRun, killMoment } from "./support/kill.js";
import { isLong } from "./support/long.js";
import { bookingsService, command, demoProject, type TestProject } from "./support/project.js";
import { expectTruth, queryFile } from "./support/truth.js";

const MOMENTS = Number(KILLS ?? (isLong ? 4 : 3));
const SEED = 20_261_123;

describe("a killed process", () => {
  it(
    `loses no row and doubles none, at ${MOMENTS} moments`,
    async () => {
      const service = await bookingsService({ bookings: 2400, seed: 3 });
      const requests = () => service.log.length;
      let project = demoProject(service.url);
      const small = (each: TestProject) => {
        each.edit("bridges.yaml", "to: local\n", "to: local\n    checkpoint: { rows: 500 }\n");
        each.edit("connectors/bookings.connector.yaml", "per_page: 500", "per_page: 100");
        each.edit("connectors/bookings.connector.yaml", ", concurrency: 4", "");
        each.edit("connectors/bookings.connector.yaml", "per_second: 20", "per_second: 100000");
      };
      small(project);
      let killed = 0;
      let midStream = 0;
      for (let moment = 0; moment < MOMENTS; moment++) {
        // every fourth time into a new warehouse, so that first loads are killed as well as later ones
        if (moment % 4 === 0 && moment > 0) {
          project = demoProject(service.url);
          small(project);
        }
        const at = killMoment(SEED, moment, moment % 4 === 0 ? 26 : 3, 120);
        if (await killedRun(project, requests, at)) killed++;
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
      expect(killed).toBeGreaterThan(MOMENTS / 2);
      expect(midStream).toBeGreaterThan(MOMENTS / 3);
      const runs = await queryFile(
        project.database,
        "SELECT DISTINCT outcome FROM early_bridge.runs ORDER BY outcome",
      );
      expect(runs.map((row) => row.outcome)).toContain("done");
    },
    MOMENTS * 40_000,
  );
});
