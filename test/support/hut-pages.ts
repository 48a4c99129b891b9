/** Huts in pages, carried into tables, and what has to stand there then. */

import fc from "fast-check";
import type { Warehouse } from "../../src/warehouse/warehouse.js";
import { apiOf, bridgeInto } from "./carry.js";

export interface Hut {
  readonly id: number;
  readonly name?: string | number;
  readonly beds?: readonly { readonly no: number }[];
  readonly [more: string]: unknown;
}

export type Pages = readonly (readonly Hut[])[];

export interface Ways {
  readonly url?: string;
  readonly write?: "upsert" | "replace";
  /** rows between two checkpoints */
  readonly checkpoint?: number;
  readonly stream?: object;
  /** called before a page is answered; a status is the answer */
  readonly before?: (page: number, url: string) => unknown;
}

/** A warehouse for each test. */
export interface HutHouse {
  fresh(): Promise<string>;
  warehouse(url: string): Warehouse;
  /** the rows that a statement gives */
  on(url: string, statement: string): Promise<Record<string, unknown>[]>;
}

/** Later ones are newer: what comes twice has changed meanwhile. */
export const CURSOR = { cursor: { field: "at", query: "since" } };
let at = 0;
/** A time later than all before. */
export const later = () => ++at;

export const hut = (id: number, more: object = {}): Hut => ({
  ...{ id, name: `Hut ${id}`, beds: [{ no: id }, { no: -id }], at: later() },
  ...more,
});

/** Pages of two huts each, all of them new. */
export const huts = (pages: number): Hut[][] =>
  Array.from({ length: pages }, (_, n) => [hut(n * 2 + 1), hut(n * 2 + 2)]);

/** The huts as the last of each that came. */
export function asLast(pages: Pages): string[] {
  const last = new Map(pages.flat().map((each) => [each.id, each]));
  return [...last.values()]
    .sort((a, b) => a.id - b.id)
    .map(({ id, name, beds = [] }) => `${id} ${name ?? "-"} ${beds.map(({ no }) => no).join(",")}`);
}

/** Carries pages, one after the other. */
export async function carryPages(
  house: HutHouse,
  pages: Pages,
  { url, write = "upsert", checkpoint = 6, stream = {}, before }: Ways = {},
) {
  const into = url ?? (await house.fresh());
  // page after page: what comes again has changed meanwhile
  const paged = { records: "$.items[*]", pages: { token: "$.next", query: "page" } };
  const api = apiOf({ ...paged, ...stream }, async ({ query }) => {
    const page = Number(query.get("page") ?? 1);
    const status = await before?.(page, into);
    if (typeof status === "number") return { status, body: {} };
    const next = page < pages.length ? String(page + 1) : null;
    return { body: { items: pages[page - 1], next } };
  });
  const options = { streams: { s: { write } }, checkpoint: { rows: checkpoint } };
  const bridge = await bridgeInto(house.warehouse(into), api, options);
  const report = await bridge.run();
  return { url: into, report, told: report.streams[0]! };
}

/** The huts as they stand. */
export async function standing({ on }: HutHouse, url: string): Promise<string[]> {
  const rows = await on(url, "SELECT id, name FROM huts.s ORDER BY id");
  const beds = await on(url, "SELECT s_id, no FROM huts.s_beds ORDER BY s_id, eb_position");
  const of = (id: unknown) => beds.flatMap((bed) => (bed.s_id === id ? String(bed.no) : []));
  return rows.map(({ id, name }) => `${id} ${name ?? "-"} ${of(id).join(",")}`);
}

/** Pages that come together in any way: a beginning that is all new, and no page like the one before. */
export function anyPages(): fc.Arbitrary<Hut[][]> {
  const record = fc.record(
    {
      id: fc.integer({ min: 1, max: 60 }),
      name: fc.oneof(fc.constantFrom("A", "B", "é\t\\"), fc.integer({ min: 1, max: 3 })),
      beds: fc.array(fc.record({ no: fc.integer({ min: 0, max: 9 }) }), { maxLength: 2 }),
      more: fc.constantFrom(1, "x"),
    },
    { requiredKeys: ["id"] },
  );
  const page = fc.uniqueArray(record, { selector: ({ id }) => id, minLength: 1, maxLength: 3 });
  return fc
    .array(page, { minLength: 1, maxLength: 6 })
    .map((odd) =>
      [...huts(3).map((page) => page.map((each) => ({ ...each, id: each.id + 100 }))), ...odd].map(
        (page, n) => [...page, { id: 200 + n }].map((each) => ({ ...each, at: later() })),
      ),
    );
}
