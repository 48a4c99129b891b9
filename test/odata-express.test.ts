/** OData sets by both readers: the same tables, quarantine and end, whatever entities say of themselves. */

import fc from "fast-check";
import { afterEach, describe, expect, it, vi } from "vitest";
import { Outliner } from "../src/core/express/outline.js";
import { Scanner } from "../src/core/express/scanner.js";
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

/** What may leave records out: nothing, a condition, one that cannot judge all of them, one over what is added. */
const RULES = [
  {},
  { where: "!record.Id.endsWith('4') && !record.Id.endsWith('7')" },
  { where: "!record.Id.endsWith('5') || record.Extra > 3" },
  { where: "record.house == 'H-7' && !record.Id.endsWith('8')", add: { house: "H-7" } },
  { where: "record.whole != '5.50 EUR'", compute: { whole: "record.Paid + ' EUR'" } },
] as const;

type Oddity = keyof typeof ODDITIES | "late";

/** Pages of three entities, the second of which is odd. */
async function runOver(oddities: readonly Oddity[], reader: "express" | "plain", rules: object = {}) {
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
  return runStays(url, reader, { query: { $expand: "Guests" }, ...rules });
}

async function runStays(url: string, reader: "express" | "plain", stays: object) {
  process.env.EARLY_BRIDGE_READER = reader;
  const path = `${temporaryFolder()}/stays.duckdb`;
  const streams = { stays: { set: "Stays", ...stays } };
  const report = await (await bridgeInto(path, openOData(url, { streams }))).run();
  const [{ outcome, received, added, quarantined, rowsByTable, error }] = report.streams as [
    (typeof report.streams)[0] & object,
  ];
  const rows = async (sql: string) => (await queryFile(path, sql)).map((row) => JSON.stringify(row)).sort();
  return {
    known: { outcome, received, added, quarantined, rowsByTable, error: error?.message },
    stays: await rows("SELECT COLUMNS(c -> c NOT LIKE 'eb_%') FROM stays"),
    guests:
      "stays_guests" in rowsByTable &&
      (await rows("SELECT COLUMNS(c -> c NOT LIKE 'eb_loaded%') FROM stays_guests")),
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
      fc.asyncProperty(
        fc.array(oddity, { minLength: 1, maxLength: 4 }),
        fc.constantFrom(...RULES),
        async (oddities, rules) => {
          expect(await runOver(oddities, "express", rules)).toEqual(await runOver(oddities, "plain", rules));
        },
      ),
      { numRuns: tries(3, 10), endOnFailure: true },
    );
  }, 300_000);

  it("is the same where records are left out by a rule, or given a field", async () => {
    const rules = { where: "record.Id != '9007199254740004'", compute: { whole: "record.Paid + ' EUR'" } };
    const outline = vi.spyOn(Outliner.prototype, "outline");
    const express = await runOver(["none", "faulty", "none"], "express", rules);
    expect(outline.mock.results.map(({ value }) => value?.sketches.length)).toEqual([3, undefined, 3]);
    expect(express).toEqual(await runOver(["none", "faulty", "none"], "plain", rules));
    expect(express.known).toMatchObject({ received: 12, added: 10, quarantined: 1 });
  });

  it("is scanned once where a condition alone leaves records out, which have no rows then", async () => {
    const outline = vi.spyOn(Outliner.prototype, "outline");
    const taken = vi.spyOn(Scanner.prototype, "take");
    const [, where, , added] = RULES;
    for (const [rules, left] of [
      [where, [1, 1, 0]],
      [added, [0, 1, 0]],
    ] as const) {
      outline.mockClear();
      taken.mockClear();
      const express = await runOver(["none", "none", "none"], "express", rules);
      expect(outline.mock.results.map(({ value }) => value?.scan?.leftOut?.size)).toEqual(left);
      expect(taken).toHaveBeenCalledTimes(9);
      expect(express.guests).toHaveLength(Number(express.known.added));
    }
  });

  it("is scanned but for pages of which an entity says something", async () => {
    const outline = vi.spyOn(Outliner.prototype, "outline");
    await runOver(["none", "none", "cut", "none", "faulty", "late"], "express");
    const scanned = outline.mock.results.map(({ value }) => value?.scan?.odd.length);
    const [late, ...again] = scanned.slice(5);
    expect(scanned.slice(0, 5)).toEqual([0, 0, undefined, 0, undefined]);
    expect([late, ...new Set(again)]).toEqual([undefined, undefined]);
  });
});

describe("an OData set by delta links", () => {
  const IDS = Array.from({ length: 9 }, (_, n) => n);
  const newer = (id: number) => ({ ...entity(id), Paid: `${id}.75` });
  /** What a service may tell of an entity that has changed; it asks for more of some by their keys. */
  const CHANGES = {
    whole: newer,
    whole_but_null: (id: number) => ({ ...newer(id), Hut: null, Guests: [] }),
    part: (id: number) => ({ Id: entity(id).Id, Paid: `${id}.75` }),
    bare: (id: number) => ({ ...newer(id), Guests: undefined }),
    nested: (id: number) => ({ ...newer(id), Guests: undefined, "Guests@delta": [{ No: id }] }),
    gone: (id: number) => ({ Id: entity(id).Id, "@removed": { reason: "deleted" } }),
    gone_whole: (id: number) => ({ ...newer(id), "@removed": { reason: "changed" } }),
    elsewhere: (id: number) => ({ ...newer(id), "@odata.context": "$metadata#Other/$entity" }),
    link: (id: number) => ({
      "@odata.context": "$metadata#Stays/$link",
      source: `Stays(${entity(id).Id})`,
      relationship: "Guests",
      target: "Guests(5)",
    }),
  } as const;
  type Change = keyof typeof CHANGES;

  /** Pages of three entities, and a page with one of each kind of change: those of a page concern others. */
  const service = (changes: readonly (readonly Change[])[]) => {
    const pages = changes.map((page, number) => {
      const more = number + 1 < changes.length;
      const next = { [more ? "@odata.nextLink" : "@odata.deltaLink"]: `Stays?$deltatoken=${number + 2}` };
      const value = page.map((change, i) => CHANGES[change]((number * 3 + i) % IDS.length));
      return [`/Stays?$deltatoken=${number + 1}`, { value, ...next }] as const;
    });
    const value = IDS.map(entity);
    return fixedService(METADATA, {
      "/Stays": { value: value.slice(0, 3), "@odata.nextLink": "Stays?page=1" },
      "/Stays?page=1": { value: value.slice(3, 6), "@odata.nextLink": "Stays?page=2" },
      "/Stays?page=2": { value: value.slice(6), "@odata.deltaLink": "Stays?$deltatoken=1" },
      ...Object.fromEntries(pages),
      ...Object.fromEntries(IDS.map((id) => [`/Stays(${entity(id).Id})`, newer(id)])),
    });
  };

  const runTwice = async (changes: readonly (readonly Change[])[], reader: "express" | "plain") => {
    const { url } = await service(changes);
    process.env.EARLY_BRIDGE_READER = reader;
    const path = `${temporaryFolder()}/stays.duckdb`;
    const streams = {
      stays: { set: "Stays", query: { $expand: "Guests" }, cursor: { delta: true } },
    } as const;
    const bridge = await bridgeInto(path, openOData(url, { streams }));
    const reports = [await bridge.run(), await bridge.run()];
    const known = reports.map(({ streams: [of] }) => {
      const { outcome, added, changed, removed, cursor, error } = of!;
      return { outcome, added, changed, removed, cursor, error: error?.message.replace(/:\d+/g, "") };
    });
    const stays = await queryFile(
      path,
      "SELECT id::VARCHAR AS id, paid::VARCHAR AS paid, hut::VARCHAR AS hut FROM stays ORDER BY 1",
    );
    const guests = await queryFile(path, "SELECT stays_id::VARCHAR AS id, no FROM stays_guests ORDER BY 1");
    return { known, stays, guests };
  };

  it("is scanned where it comes whole, and looked at entry by entry where it is told in part", async () => {
    const outline = vi.spyOn(Outliner.prototype, "outline");
    const changes = [["whole"], ["whole", "whole_but_null"], ["whole", "part"], ["gone"]] as const;
    const express = await runTwice(changes, "express");
    const scanned = outline.mock.results.map(({ value }) => value?.scan?.odd.length);
    expect(scanned).toEqual([0, 0, 0, undefined, undefined]);
    expect(express).toEqual(await runTwice(changes, "plain"));
    expect(express.known).toMatchObject([
      { outcome: "done", added: 9 },
      { outcome: "done", changed: 4, removed: 1 },
    ]);
    const paid = ["1.50", "2.50", "3.75", "4.75", "5.50", "6.75", "7.75", "8.50"];
    expect(express.stays.map((row) => row.paid)).toEqual(paid);
  });

  it("ends as it does by the plain reader, whatever is told of its entities", async () => {
    const page = fc.array(fc.constantFrom(...(Object.keys(CHANGES) as Change[])), { maxLength: 3 });
    await fc.assert(
      fc.asyncProperty(fc.array(page, { minLength: 2, maxLength: 4 }), async (changes) => {
        expect(await runTwice(changes, "express")).toEqual(await runTwice(changes, "plain"));
      }),
      { numRuns: tries(2, 15), endOnFailure: true },
    );
  }, 300_000);
});

const OLD_METADATA = schemaOf(
  `<EntityType Name="Stay"><Key><PropertyRef Name="Id"/></Key><Property Name="Id" Type="Edm.Int64"/>
   <Property Name="Paid" Type="Edm.Decimal" Precision="20" Scale="2"/><Property Name="Hut" Type="Edm.Guid"/>
   <Property Name="At" Type="Edm.DateTime"/><Property Name="Seen" Type="Edm.DateTimeOffset"/>
   <Property Name="Till" Type="Edm.Time"/><Property Name="Note" Type="Edm.String"/>
   <NavigationProperty Name="Guests" Relationship="N.R" ToRole="G" FromRole="S"/></EntityType>
   <EntityType Name="Guest"><Key><PropertyRef Name="No"/></Key><Property Name="No" Type="Edm.Int32"/></EntityType>
   <Association Name="R"><End Role="S" Type="N.Stay" Multiplicity="1"/><End Role="G" Type="N.Guest" Multiplicity="*"/>
   </Association>`,
  '<EntitySet Name="Stays" EntityType="N.Stay"/>',
  "1.0",
);

const oldEntity = (id: number) => ({
  __metadata: { uri: `Stays(${id}L)`, type: "N.Stay", etag: `W/"${id}"` },
  Id: String(9_007_199_254_740_000 + id),
  Paid: `${id}.50`,
  Hut: `0f8fad5b-d9cb-469f-a165-${String(id).padStart(12, "0")}`,
  At: `/Date(${1_767_225_600_000 + id})/`,
  Seen: `/Date(${1_767_225_600_000 - id * 1000}+0060)/`,
  Till: "PT13H20M",
  Note: "a (Date) of D",
  Guests: { __deferred: { uri: `Stays(${id}L)/Guests` } },
});

const OLD_ODDITIES = {
  none: {},
  nothing: { At: null, Seen: null, Note: null },
  far: { At: "/Date(99999999999999999)/" },
  noTime: { At: "/Date(soon)/" },
  listed: { Days: ["/Date(0)/", "/Date(1)/"] },
  ofText: { Note: "/Date(0)/" },
  inText: { Note: 'said "/Date(0)/", or so' },
  expanded: { Guests: { results: [{ No: 1, From: "/Date(5)/" }], __next: null } },
  guests: { Guests: { results: [{ No: 1, From: "/Date(5)/", Bags: { results: [{ Kg: 2 }] } }, { No: 2 }] } },
  noGuests: { Guests: { results: [] } },
  counted: { Guests: { __count: "1", results: [{ No: 3 }] } },
  more: { Extra: "/Date(-1)/" },
  gone: { __metadata: { uri: "x", state: "deleted" } },
} as const;
const BESIDE = { none: {}, light: { value: [] }, late: { error: { message: "cut" } } } as const;

const oldPage = fc.record({
  oddity: fc.constantFrom(...(Object.keys(OLD_ODDITIES) as (keyof typeof OLD_ODDITIES)[])),
  // as most services of 2.0 write a slash
  escapes: fc.boolean(),
  blanks: fc.boolean(),
  beside: fc.oneof(
    { weight: 5, arbitrary: fc.constant("none" as const) },
    { weight: 1, arbitrary: fc.constantFrom("light" as const, "late" as const) },
  ),
});

interface OldPage {
  readonly oddity: keyof typeof OLD_ODDITIES;
  readonly escapes: boolean;
  readonly blanks: boolean;
  readonly beside: keyof typeof BESIDE;
}

const plainPage = (oddity: OldPage["oddity"]): OldPage => ({
  oddity,
  escapes: true,
  blanks: false,
  beside: "none",
});

describe("an OData set of 2.0 by the express reader", () => {
  const runOld = async (pages: readonly OldPage[], reader: "express" | "plain", stays: object = {}) => {
    const texts = [plainPage("none"), ...pages].map(
      ({ oddity, escapes, blanks, beside }, number, { length }) => {
        const list = [1, 2, 3].map((n) => ({
          ...oldEntity(number * 3 + n),
          ...(n === 2 ? OLD_ODDITIES[oddity] : {}),
        }));
        const next = number + 1 < length ? { __next: `Stays?page=${number + 1}` } : {};
        const text = JSON.stringify(
          { d: { results: list, ...next }, ...BESIDE[beside] },
          undefined,
          blanks ? 2 : 0,
        );
        return [
          number === 0 ? "/Stays" : `/Stays?page=${number}`,
          escapes ? text.replaceAll("/", "\\/") : text,
        ];
      },
    );
    const { url } = await fixedService(OLD_METADATA, Object.fromEntries(texts));
    return runStays(url, reader, stays);
  };

  it("is the same as by the plain one, however its times are written", async () => {
    await fc.assert(
      fc.asyncProperty(
        fc.array(oldPage, { minLength: 1, maxLength: 4 }),
        fc.boolean(),
        async (pages, expands) => {
          const gone = "record.__metadata.state == 'deleted'";
          const stays = { gone, ...(expands && { query: { $expand: "Guests" } }) };
          expect(await runOld(pages, "express", stays)).toEqual(await runOld(pages, "plain", stays));
        },
      ),
      { numRuns: tries(3, 10), endOnFailure: true },
    );
  }, 300_000);

  it("is scanned, its times as well", async () => {
    const outline = vi.spyOn(Outliner.prototype, "outline");
    const pages = (["none", "nothing", "listed", "none"] as const).map(plainPage);
    const { stays } = await runOld(pages, "express");
    expect(outline.mock.results.map(({ value }) => value?.scan?.odd.length)).toEqual([0, 0, undefined, 0]);
    expect(stays).toHaveLength(15);
  });

  it("is scanned, its expanded collections as well, with their counts beside their lists or without", async () => {
    const outline = vi.spyOn(Outliner.prototype, "outline");
    const pages = (["guests", "guests", "counted", "noGuests"] as const).map(plainPage);
    await runOld(pages, "express", { query: { $expand: "Guests" } });
    const scanned = outline.mock.results.map(({ value }) => value?.scan?.odd.length);
    // what the metadata does not tell of is new on the first page that has it
    expect(scanned).toEqual([undefined, 0, 0, 0]);
  });
});
