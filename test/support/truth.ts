/** What the tables must hold, made from the service's own listing by other means than the product's. */

import { createHmac } from "node:crypto";
import { DuckDBInstance } from "@duckdb/node-api";
import { expect } from "vitest";
import { DEMO_HASH_SECRET } from "../../src/standins/index.js";
import { upToDate } from "./warehouse.js";

type Row = Record<string, unknown>;

/** Runs one query on a DuckDB file, or on `:memory:`; the values are plain JSON. */
export function queryFile(path: string, sql: string): Promise<Row[]> {
  return upToDate(path, async () => {
    const instance = await DuckDBInstance.create(
      path,
      path === ":memory:" ? {} : { access_mode: "READ_ONLY" },
    );
    const connection = await instance.connect();
    await connection.run("SET TimeZone = 'UTC'");
    try {
      return (await connection.runAndReadAll(sql)).getRowObjectsJson() as Row[];
    } finally {
      connection.closeSync();
      instance.closeSync();
    }
  });
}

/** Changes a DuckDB file as its owner would. */
export async function changeFile(path: string, sql: string): Promise<void> {
  const instance = await DuckDBInstance.create(path);
  const connection = await instance.connect();
  await connection.run(sql);
  connection.closeSync();
  instance.closeSync();
}

/** The records of a stream as the service knows them; ids as text, for one of them fits no number. */
export async function truthOf(url: string, stream: string): Promise<Row[]> {
  const text = await (await fetch(`${url}/_truth?stream=${stream}`)).text();
  const lines = text.trim().split("\n");
  return lines.map((line) => JSON.parse(line.replace(/^\{"id":(\d+)/, '{"id":"$1"')) as Row);
}

interface Booking {
  id: string;
  lead_guest: { name: string; email: string | null; address?: Row };
  guests: { name: string; age: number | null; member: boolean; bunk?: { room: string; bed: number } }[];
  price: { amount: string; currency: string };
  stay: { from: string; to: string };
  extras: string[];
  changed_by?: { desk: string; reason: string | null };
  [field: string]: unknown;
}

const hashed = (text: string | null) =>
  text === null ? null : createHmac("sha256", DEMO_HASH_SECRET).update(text).digest("hex");
const amount = (text: string) => Number(text).toFixed(2);
const instant = (text: unknown) => new Date(String(text)).toISOString();

function bookingRow(booking: Booking): Row {
  const { lead_guest: lead, price, stay } = booking;
  return {
    id: booking.id,
    reference: booking.reference,
    hut_id: String(booking.hut_id),
    state: booking.state,
    lead_guest_name: lead.name,
    lead_guest_email: hashed(lead.email),
    street: lead.address?.street ?? null,
    post_code: lead.address?.post_code ?? null,
    amount: amount(price.amount),
    currency: price.currency,
    stay: `${stay.from}/${stay.to}`,
    extras: JSON.stringify(booking.extras),
    deposit_share: Number(booking.deposit_share),
    changed_at: instant(booking.changed_at),
    note: booking.note ?? null,
    changed_by: booking.changed_by?.desk ?? null,
  };
}

function guestRows(booking: Booking): Row[] {
  return booking.guests.map((guest, position) => ({
    bookings_id: booking.id,
    position: String(position),
    name: guest.name,
    age: guest.age === null ? null : String(guest.age),
    member: guest.member,
    bunk: guest.bunk === undefined ? null : `${guest.bunk.room}/${guest.bunk.bed}`,
  }));
}

/** Compares every row of bookings, guests and huts with the service. `changedBy`: whether a tick has been. */
export async function expectTruth(url: string, database: string, changedBy: boolean): Promise<void> {
  const bookings = (await truthOf(url, "bookings")) as Booking[];
  const rows = await queryFile(
    database,
    `SELECT id::VARCHAR AS id, reference, hut_id::VARCHAR AS hut_id, state, lead_guest_name, lead_guest_email,
       lead_guest_address_street AS street, lead_guest_address_post_code AS post_code, price_amount::VARCHAR AS amount,
       price_currency AS currency, stay_from || '/' || stay_to AS stay, extras::VARCHAR AS extras, deposit_share,
       strftime(changed_at AT TIME ZONE 'UTC', '%Y-%m-%dT%H:%M:%S.%gZ') AS changed_at, note,
       ${changedBy ? "changed_by_desk" : "NULL"} AS changed_by
     FROM bookings.bookings ORDER BY bookings.id`,
  );
  expectSameRows(rows, bookings.map(bookingRow), (row) => String(row.id));
  const guests = await queryFile(
    database,
    `SELECT bookings_id::VARCHAR AS bookings_id, eb_position::VARCHAR AS position, name, age::VARCHAR AS age, member,
       bunk_room || '/' || bunk_bed AS bunk FROM bookings.bookings_guests`,
  );
  expectSameRows(guests, bookings.flatMap(guestRows), (row) => `${row.bookings_id} ${row.position}`);
  const huts = await queryFile(database, "SELECT id::VARCHAR AS id, name, warden_phone FROM bookings.huts");
  const truth = await truthOf(url, "huts");
  const hutRow = (hut: Row) => ({
    id: String(hut.id),
    name: hut.name,
    warden_phone: (hut.warden as Row).phone,
  });
  expectSameRows(huts, truth.map(hutRow), (row) => String(row.id));
}

/** Same rows, none lost, none twice. Both are sorted by key, so that a difference is shown where it is. */
function expectSameRows(actual: Row[], expected: Row[], key: (row: Row) => string): void {
  const sorted = (rows: Row[]) => [...rows].sort((a, b) => (key(a) < key(b) ? -1 : key(a) > key(b) ? 1 : 0));
  const [have, want] = [sorted(actual), sorted(expected)];
  const different = want.findIndex((row, i) => JSON.stringify(row) !== JSON.stringify(have[i]));
  if (different >= 0) expect(have[different]).toEqual(want[different]);
  expect(have.length).toBe(want.length);
}
