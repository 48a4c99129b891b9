/** OData sets by both readers: the same tables, quarantine and end, whatever entities say of themselves. */

import fc from "fast-check";
import { afterEach, describe, expect, it, vi } from "vitest";
import { Outliner } from "../src/core/express/outline.js";
import { bridgeInto } from "./support/carried.js";
import { tries } from "./support/long.js";
import { fixedService, openOData, schemaOf } from "./support/odata.js";
import { temporaryFolder } from "./support/project.js";
import { queryFile } from "./support/truth.js";

const METADATA = schemaOf(
  `<EntityType Name="Stay" OpenType="true"><Key><PropertyRef Name="Id"/></Key><Property Name="Id" Type="Edm.Int64"/>
   <Property Name="Paid" Type="Edm.Decimal" Precision="20" Scale="2"/><Property Name="Hut" Type="Edm.Guid"/>
   <Property Name="At" Type="Edm.DateTimeOffset"/><NavigationProperty Name="Guests" Type="Collection(N.Guest)"/></EntityType>
   <EntityType Name="Guest"><Key><PropertyRef Name="No"/></Key><Property Name="No" Type="Edm.Int32"/></EntityType>`,
  '<EntitySet Name="Stays" EntityType="N.Stay"/>',
);

/** An entity as services mostly give it: long numbers and decimals as text. */
const entity = (id: number) => ({
  "@odata.etag": `W/"${id}"`,
  Id: String(9_007_199_254_740_000 + id),
  Paid: `${id}.50`,
  Hut: `0F8FAD5B-d9cb-469f-a165-${String(id).padStart(12, "0")}`,
  At: "2026-01-01T00:00:00Z",
  Guests: [{ No: id, "@odata.type": "#N.Guest" }],
});

/** What one entity of a page may have beside, or the page itself. */
const ODDITIES = {
  none: {},
  cut: { "Guests@odata.nextLink": "Stays(1)/Guests?$skip=1" },
  cutDeeper: { Guests: [{ No: 1, "Beds@odata.nextLink": "Stays(1)/Beds" }] },
  faulty: { "Paid@Core.ValueException": { info: { message: "out of order" } } },
  gone: { "@removed": { reason: "deleted" } },
  elsewhere: { "@odata.context": "$metadata#Other/$entity" },
  derived: { "@odata.type": "#N.Other", Extra: [{ a: 1 }], Note: "ä" },
  remark: { "@hut.remark": { by: "warden" } },
  misfit: { Paid: "much" },
  empty: { Guests: null, Hut: null, Paid: 12345678901234567890n.toString() },
} as const;
type Oddity = keyof typeof ODDITIES | "late";

/** Pages of three entities, the second of which is odd. */
async function runOver(oddities: readonly Oddity[], reader: "express" | "plain") {
  process.env.EARLY_BRIDGE_READER = reader;
  const page = (number: number, oddity: Oddity | undefined) => {
    const value = [1, 2, 3].map((n) => {
      const own = oddity === undefined || oddity === "late" || n !== 2 ? {} : ODDITIES[oddity];
      return { ...entity(number * 3 + n), ...own };
    });
    const more = number < oddities.length ? { "@odata.nextLink": `Stays?page=${number + 1}` } : {};
    return {
      "@odata.context": "$metadata#Stays",
      value,
      ...more,
      ...(oddity === "late" ? { error: { message: "cut" } } : {}),
    };
  };
  const pages = oddities.map((oddity, i) => [`/Stays?page=${i + 1}`, page(i + 1, oddity)] as const);
  const { url } = await fixedService(METADATA, {
    "/Stays": page(0, undefined),
    ...Object.fromEntries(pages),
    "/Stays(1)/Guests?$skip=1": { value: [{ No: 77 }] },
    "/Stays(1)/Beds": { value: [{ Bed: 1 }] },
  });
  const path = `${temporaryFolder()}/stays.duckdb`;
  const streams = { stays: { set: "Stays", query: { $expand: "Guests" } } };
  const report = await (await bridgeInto(path, openOData(url, { streams }))).run();
  const [{ outcome, received, added, quarantined, rowsByTable, error }] = report.streams as [
    (typeof report.streams)[0] & object,
  ];
  const rows = async (sql: string) => (await queryFile(path, sql)).map((row) => JSON.stringify(row)).sort();
  return {
    known: { outcome, received, added, quarantined, rowsByTable, error: error?.message },
    stays: await rows("SELECT COLUMNS(c -> c NOT LIKE 'eb_%') FROM stays"),
    guests: await rows("SELECT COLUMNS(c -> c NOT LIKE 'eb_loaded%') FROM stays_guests"),
    kept: await rows("SELECT reason, path, message, record FROM early_bridge.quarantine"),
  };
}

afterEach(() => {
  delete process.env.EARLY_BRIDGE_READER;
  vi.restoreAllMocks();
});

describe("an OData set by the express reader", () => {
  it("is the same as by the plain one, whatever stands among its entities", async () => {
    const oddity = fc.constantFrom(...(Object.keys(ODDITIES) as Oddity[]), "late" as const);
    await fc.assert(
      fc.asyncProperty(fc.array(oddity, { minLength: 1, maxLength: 4 }), async (oddities) => {
        expect(await runOver(oddities, "express")).toEqual(await runOver(oddities, "plain"));
      }),
      { numRuns: tries(3, 24), endOnFailure: true },
    );
  }, 300_000);

  it("is scanned but for pages of which an entity says something", async () => {
    const outline = vi.spyOn(Outliner.prototype, "outline");
    await runOver(["none", "none", "cut", "none", "faulty", "late"], "express");
    const scanned = outline.mock.results.map(({ value }) => value?.scan?.odd.length);
    const [late, ...again] = scanned.slice(5);
    expect(scanned.slice(0, 5)).toEqual([0, 0, undefined, 0, undefined]);
    expect([late, ...new Set(again)]).toEqual([undefined, undefined]);
  });
});
