// What a good engineer writes in an afternoon: fetch loop, next page asked for ahead, JSON.parse, appender row by row.
import {
  DuckDBDateValue,
  DuckDBDecimalValue,
  DuckDBInstance,
  DuckDBTimestampTZValue,
} from "@duckdb/node-api";
import { database, measured, url } from "./report.mjs";

await measured(async () => {
  const instance = await DuckDBInstance.create(database);
  const connection = await instance.connect();
  await connection.run(`CREATE TABLE bookings (id BIGINT, reference VARCHAR, hut_id BIGINT, state VARCHAR, lead_guest_name VARCHAR,
    lead_guest_email VARCHAR, street VARCHAR, city VARCHAR, post_code VARCHAR, country VARCHAR, price_amount DECIMAL(12,2),
    price_currency VARCHAR, stay_from DATE, stay_to DATE, extras JSON, deposit_share DOUBLE, created_at TIMESTAMPTZ,
    changed_at TIMESTAMPTZ, note VARCHAR)`);
  await connection.run(`CREATE TABLE bookings_guests (bookings_id BIGINT, position BIGINT, name VARCHAR, age BIGINT, member BOOLEAN,
    bunk_room VARCHAR, bunk_bed BIGINT)`);
  const bookings = await connection.createAppender("bookings");
  const guests = await connection.createAppender("bookings_guests");
  const text = (appender, value) => (value == null ? appender.appendNull() : appender.appendVarchar(value));
  const int = (appender, value) =>
    value == null ? appender.appendNull() : appender.appendBigInt(BigInt(value));
  const date = (value) => bookings.appendDate(new DuckDBDateValue(Date.parse(value) / 86_400_000));
  const instant = (value) =>
    bookings.appendTimestampTZ(new DuckDBTimestampTZValue(BigInt(Date.parse(value)) * 1000n));
  const ask = async (token) =>
    (await fetch(`${url}/v2/bookings${token === null ? "" : `?after=${token}`}`)).text();
  const rows = { bookings: 0, bookings_guests: 0 };
  let pending = ask(null);
  while (pending !== undefined) {
    const { items, paging } = JSON.parse(await pending);
    pending = paging.next_token === null ? undefined : ask(paging.next_token);
    for (const item of items) {
      const { lead_guest: lead, price } = item;
      int(bookings, item.id);
      text(bookings, item.reference);
      int(bookings, item.hut_id);
      text(bookings, item.state);
      text(bookings, lead.name);
      text(bookings, lead.email);
      text(bookings, lead.address?.street);
      text(bookings, lead.address?.city);
      text(bookings, lead.address?.post_code);
      text(bookings, lead.address?.country);
      bookings.appendDecimal(new DuckDBDecimalValue(BigInt(Math.round(Number(price.amount) * 100)), 12, 2));
      text(bookings, price.currency);
      date(item.stay.from);
      date(item.stay.to);
      text(bookings, JSON.stringify(item.extras));
      bookings.appendDouble(item.deposit_share);
      instant(item.created_at);
      instant(item.changed_at);
      text(bookings, item.note);
      bookings.endRow();
      rows.bookings++;
      for (const [position, guest] of item.guests.entries()) {
        int(guests, item.id);
        int(guests, position);
        text(guests, guest.name);
        int(guests, guest.age);
        guests.appendBoolean(guest.member);
        text(guests, guest.bunk?.room);
        int(guests, guest.bunk?.bed);
        guests.endRow();
        rows.bookings_guests++;
      }
    }
  }
  bookings.closeSync();
  guests.closeSync();
  connection.closeSync();
  instance.closeSync();
  return rows;
});
