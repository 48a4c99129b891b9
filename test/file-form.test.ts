/** The form that a DuckDB file is written in: older programs read it, unless its owner wants another. */

import { describe, expect, it } from "vitest";
import { bookingsService, command, demoProject } from "./support/project.js";
import { queryFile } from "./support/truth.js";

const PLACE = "duckdb: ./huts.duckdb";

/** The oldest version of DuckDB that reads a file. */
async function oldestReader(database: string): Promise<string | undefined> {
  const rows = await queryFile(
    database,
    "SELECT tags::VARCHAR AS tags FROM duckdb_databases() WHERE path IS NOT NULL",
  );
  return rows.map(({ tags }) => /'?storage_version'?[:=] *'?(v[\d.]+)/.exec(String(tags))?.[1]).find(Boolean);
}

describe("the form of a DuckDB file", () => {
  it("is read by all versions since 1.0, or is what storage_version says, from then on", async () => {
    const { url } = await bookingsService({ bookings: 40 });
    const { folder, database, edit } = demoProject(url);
    expect((await command(["run", "bookings"], folder)).code).toBe(0);
    expect(await oldestReader(database)).toBe("v1.0.0");
    edit("bridges.yaml", PLACE, `${PLACE}, storage_version: v1.3.0`);
    expect((await command(["run", "bookings"], folder)).code).toBe(0);
    expect(await oldestReader(database)).toBe("v1.3.0");
    edit("bridges.yaml", "storage_version: v1.3.0", "storage_version: v1.2.0");
    const { code, stderr } = await command(["run", "bookings"], folder);
    expect({ code, stderr }).toMatchObject({ code: 2, stderr: expect.stringContaining("of a newer form") });
    edit("bridges.yaml", ", storage_version: v1.2.0", "");
    expect((await command(["run", "bookings"], folder)).code).toBe(0);
    expect(await oldestReader(database)).toBe("v1.3.0");
    expect(await queryFile(database, "SELECT count(*)::VARCHAR AS n FROM bookings.bookings")).toEqual([
      { n: "40" },
    ]);
  });

  it.each([
    [`${PLACE}, storage_version: "1.3"`, /storage_version is written as v1\.3\.0, or latest/],
    [`${PLACE}, storage_version: v99.0.0`, /CONFIG_INVALID .*knows no storage_version v99\.0\.0/],
    ["folder: ./files, storage_version: v1.3.0", /is for a DuckDB file/],
  ])("is told where it is none: %s", async (place, told) => {
    const { folder, edit } = demoProject("http://127.0.0.1:9");
    edit("bridges.yaml", PLACE, place);
    const { code, stderr } = await command(["run", "bookings"], folder);
    expect(code).not.toBe(0);
    expect(stderr).toMatch(told);
  });
});
