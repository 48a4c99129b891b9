// DuckDB's own JSON reader, schema given, from files on disk; guests by unnest.
import { join } from "node:path";
import { DuckDBInstance } from "@duckdb/node-api";
import { database, folder, measured } from "./report.mjs";

const record = `STRUCT(id BIGINT, reference VARCHAR, hut_id BIGINT, state VARCHAR,
  lead_guest STRUCT(name VARCHAR, email VARCHAR, address STRUCT(street VARCHAR, city VARCHAR, post_code VARCHAR, country VARCHAR)),
  guests STRUCT(name VARCHAR, age BIGINT, member BOOLEAN, bunk STRUCT(room VARCHAR, bed BIGINT))[],
  price STRUCT(amount DECIMAL(12,2), currency VARCHAR), stay STRUCT("from" DATE, "to" DATE), extras JSON,
  deposit_share DOUBLE, created_at TIMESTAMPTZ, changed_at TIMESTAMPTZ, note VARCHAR)`;

await measured(async () => {
  const instance = await DuckDBInstance.create(database);
  const connection = await instance.connect();
  const source = `read_json('${join(folder, "*.json")}', columns = {items: '${record.replaceAll("'", "''")}[]'}, maximum_object_size = 67108864)`;
  await connection.run("BEGIN");
  await connection.run(`CREATE TEMP TABLE raw AS SELECT unnest(items) AS r FROM ${source}`);
  await connection.run(`CREATE TABLE bookings AS SELECT r.id, r.reference, r.hut_id, r.state, r.lead_guest.name AS lead_guest_name,
    r.lead_guest.email AS lead_guest_email, r.lead_guest.address.street AS street, r.lead_guest.address.city AS city,
    r.lead_guest.address.post_code AS post_code, r.lead_guest.address.country AS country, r.price.amount AS price_amount,
    r.price.currency AS price_currency, r.stay."from" AS stay_from, r.stay."to" AS stay_to, r.extras, r.deposit_share,
    r.created_at, r.changed_at, r.note FROM raw`);
  await connection.run(`CREATE TABLE bookings_guests AS SELECT id AS bookings_id, position - 1 AS position, g.name, g.age, g.member,
    g.bunk.room AS bunk_room, g.bunk.bed AS bunk_bed
    FROM (SELECT r.id AS id, unnest(r.guests) AS g, generate_subscripts(r.guests, 1) AS position FROM raw)`);
  await connection.run("COMMIT");
  const count = async (table) =>
    Number((await connection.runAndReadAll(`SELECT count(*) AS n FROM ${table}`)).getRowObjectsJS()[0].n);
  const rows = { bookings: await count("bookings"), bookings_guests: await count("bookings_guests") };
  connection.closeSync();
  instance.closeSync();
  return rows;
});
