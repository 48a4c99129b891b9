/** Delta links whose changes are told in part: what is stored is what the service holds. */

import { describe, expect, it } from "vitest";
import { bridgeInto } from "./support/carried.js";
import { fixedService, HUT, HUTS, openOData, schemaOf } from "./support/odata.js";
import { temporaryFolder } from "./support/project.js";
import { queryFile } from "./support/truth.js";

const hut = (Id: number, Title: string, ...beds: number[]) => ({
  Id,
  Title,
  Beds: beds.map((No) => ({ No })),
});

describe("tombstones of 2.0", () => {
  it("are what a rule says that they are: it has no form for them", async () => {
    const metadata = schemaOf(HUT.replace('Type="Collection(N.Bed)"', ""), HUTS, "1.0");
    const { url } = await fixedService(metadata, {
      "/Huts": {
        d: {
          results: [
            { Id: 1, Title: "A" },
            { Id: 2, Title: "B" },
          ],
          __delta: "Huts?!deltatoken=1",
        },
      },
      "/Huts?!deltatoken=1": {
        d: {
          results: [
            { __metadata: { state: "deleted" }, Id: 1 },
            { Id: 3, Title: "C" },
          ],
          __delta: "Huts?!deltatoken=2",
        },
      },
    });
    const path = `${temporaryFolder()}/tombstones.duckdb`;
    const huts = {
      set: "Huts",
      cursor: { delta: true },
      gone: "record.__metadata.state == 'deleted'",
    } as const;
    const bridge = await bridgeInto(path, openOData(url, { streams: { huts } }));
    expect((await bridge.run()).outcome).toBe("done");
    expect((await bridge.run()).streams[0]).toMatchObject({ outcome: "done", added: 1, removed: 1 });
    expect(await queryFile(path, "SELECT title FROM huts ORDER BY 1")).toEqual([
      { title: "B" },
      { title: "C" },
    ]);
  });
});

describe("changes that a service tells in part", () => {
  const open = async (changes: object, later: Readonly<Record<string, unknown>> = {}) => {
    const { url, log } = await fixedService(schemaOf(HUT, HUTS), {
      "/Huts": {
        value: [hut(1, "A", 1), hut(2, "B", 2), hut(3, "C")],
        "@odata.deltaLink": "Huts?$deltatoken=1",
      },
      "/Huts?$deltatoken=1": changes,
      ...later,
    });
    const path = `${temporaryFolder()}/changes.duckdb`;
    const streams = { huts: { set: "Huts", query: { $expand: "Beds" }, cursor: { delta: true } } } as const;
    const bridge = await bridgeInto(path, openOData(url, { streams }));
    expect((await bridge.run()).outcome).toBe("done");
    const notices: string[] = [];
    const report = await bridge.run({ onEvent: (e) => e.type === "notice" && notices.push(e.message) });
    const rows = await queryFile(
      path,
      `SELECT id::INTEGER || ' ' || coalesce(title, '-') || ' ' || coalesce(string_agg(no::VARCHAR, ',' ORDER BY no), '') AS row
       FROM huts LEFT JOIN huts_beds ON huts_id = id GROUP BY id, title ORDER BY id`,
    );
    return { report, notices, log, rows: rows.map(({ row }) => row) };
  };

  it("are completed: entities in part, collections by their changes, links that come and go", async () => {
    const { report, rows, log } = await open(
      {
        "@context": "$metadata#Huts/$delta",
        value: [
          { Id: 1, Title: "A, renamed" },
          { Id: 2, Title: "B", "Beds@delta": [{ No: 22 }] },
          { "@context": "#Huts/$link", source: "Huts(3)", relationship: "Beds", target: "Beds(33)" },
          { "@context": "#Huts/$deletedLink", source: "Huts(4)", relationship: "Beds", target: "Beds(44)" },
        ],
        "@odata.deltaLink": "Huts?$deltatoken=2",
      },
      {
        "/Huts(1)": hut(1, "A, renamed", 1, 11),
        "/Huts(2)": hut(2, "B", 2, 22),
        "/Huts(3)": hut(3, "C", 33),
      },
    );
    expect(report.streams[0]).toMatchObject({ outcome: "done", received: 4, changed: 1, removed: 0 });
    expect(rows).toEqual(["1 A, renamed 1,11", "2 B 2,22", "3 C 33"]);
    expect(log.at(-1)).toBe("/odata/Huts(4)?$select=Id,Title&$expand=Beds");
  });

  it("of an entity that is gone by the time it is asked for remove its rows", async () => {
    const { report, rows } = await open({
      value: [{ Id: 2, Title: "B" }],
      "@odata.deltaLink": "Huts?$deltatoken=2",
    });
    expect(report.streams[0]).toMatchObject({ outcome: "done", removed: 1 });
    expect(rows).toEqual(["1 A 1", "3 C "]);
  });

  it("that belong to nobody in particular lead to a full reading, which says so", async () => {
    const { report, notices, rows } = await open({
      value: [{ "@odata.context": "#Beds/$entity", No: 1 }],
      "@odata.deltaLink": "Huts?$deltatoken=2",
    });
    expect(report.streams[0]).toMatchObject({ outcome: "done", unchanged: 3 });
    expect(rows).toHaveLength(3);
    expect(notices).toEqual([
      "The service tells that an entity of Beds has changed, and not which ones of Huts hold it. The pass begins anew.",
      "What has been deleted since the last run stays in the table: a full reading does not tell.",
    ]);
  });
});
