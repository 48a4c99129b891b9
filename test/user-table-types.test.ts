/** Every type of column that a warehouse has takes what JSON has for it, and what came again unchanged is no change. */

import { describe, expect, it } from "vitest";
import { userHouse } from "./support/user-house.js";
import { isPostgres, isServer, theServer } from "./support/warehouse.js";

/** a column's type, what comes, and what stands there then */
type Case = readonly [type: string, came: unknown, stands: string];

const INSTANT = "2026-03-29T01:30:00.123456Z";
const UUID = "0b1c2d3e-0000-4000-8000-123456789abc";

const CASES: Readonly<Record<string, readonly Case[]>> = {
  duckdb: [
    ["BOOLEAN", true, "true"],
    ["TINYINT", -128, "-128"],
    ["UBIGINT", "18446744073709551615", "18446744073709551615"],
    ["HUGEINT", "99999999999999999999", "99999999999999999999"],
    ["FLOAT", 0.1, "0.1"],
    ["DOUBLE", 0.1, "0.1"],
    ["DECIMAL(10,2)", 1.5, "1.50"],
    ["VARCHAR", 12, "12"],
    ["VARCHAR", { a: [1] }, '{"a":[1]}'],
    ["DATE", "2026-01-02", "2026-01-02"],
    ["TIMESTAMP", INSTANT, "2026-03-29 01:30:00.123456"],
    ["TIMESTAMP_S", INSTANT, "2026-03-29 01:30:00"],
    ["TIMESTAMPTZ", INSTANT, "2026-03-29 01:30:00.123456+00"],
    ["TIME", "10:20:30", "10:20:30"],
    ["UUID", UUID, UUID],
    ["BLOB", "AQL/", "\\x01\\x02\\xFF"],
    ["JSON", { a: [1, null] }, '{"a":[1,null]}'],
    ["ENUM('north', 'it''s')", "it's", "it's"],
    ["INTEGER[]", [1, 2], "[1, 2]"],
  ],
  postgres: [
    ["boolean", true, "true"],
    ["smallint", -32768, "-32768"],
    ["bigint", "9223372036854775807", "9223372036854775807"],
    ["real", 0.1, "0.1"],
    ["double precision", 0.1, "0.1"],
    ["numeric(10,2)", 1.5, "1.50"],
    ["numeric", 12.5, "12.5"],
    ["numeric", 1200, "1200"],
    ["text", 12, "12"],
    ["character varying(4)", "Älm!", "Älm!"],
    ["character(4)", "ab", "ab"],
    ["text", { a: [1] }, '{"a":[1]}'],
    ["date", "2026-01-02", "2026-01-02"],
    ["timestamp", INSTANT, "2026-03-29 01:30:00.123456"],
    ["timestamp(0)", INSTANT, "2026-03-29 01:30:00"],
    ["timestamptz", INSTANT, "2026-03-29 01:30:00.123456+00"],
    ["time", "10:20:30", "10:20:30"],
    ["interval", "P1DT2H", "P1DT2H"],
    ["uuid", UUID, UUID],
    ["bytea", "AQL/", "\\x0102ff"],
    ["json", { a: [1, null] }, '{"a": [1, null]}'],
    ["jsonb", { a: [1, null] }, '{"a": [1, null]}'],
    ["inet", "10.0.0.7", "10.0.0.7/32"],
    ["huts.region", "it's", "it's"],
    ["huts.few", 7, "7"],
    ["xml", "<a/>", "<a/>"],
  ],
  mariadb: [
    ["BOOLEAN", true, "1"],
    ["TINYINT", -128, "-128"],
    ["TINYINT UNSIGNED", 255, "255"],
    ["MEDIUMINT", 8_388_607, "8388607"],
    ["BIGINT UNSIGNED", "18446744073709551615", "18446744073709551615"],
    ["FLOAT", 0.1, "0.1"],
    ["DOUBLE", 0.1, "0.1"],
    ["DECIMAL(10,2)", 1.5, "1.50"],
    ["VARCHAR(4) CHARACTER SET latin1", "Älm!", "Älm!"],
    ["VARCHAR(4) CHARACTER SET utf8mb4 COLLATE utf8mb4_general_ci", "Älm!", "Älm!"],
    ["CHAR(4)", "ab", "ab"],
    ["TEXT", 12, "12"],
    ["DATE", "2026-01-02", "2026-01-02"],
    ["DATETIME", INSTANT, "2026-03-29 01:30:00"],
    ["DATETIME(6)", INSTANT, "2026-03-29 01:30:00.123456"],
    ["TIMESTAMP(3) NULL", INSTANT, "2026-03-29 01:30:00.123"],
    ["TIME", "10:20:30", "10:20:30"],
    ["YEAR", "2026", "2026"],
    ["ENUM('north', 'it''s')", "it's", "it's"],
    ["SET('a', 'b')", "a,b", "a,b"],
  ],
};

/** What the types of MariaDB and MySQL have that the other one has not, or has otherwise. */
const OF_MAKE: Readonly<Record<string, (typeof CASES)[string]>> = {
  mariadb: [
    ["JSON", { a: [1, null] }, '{"a":[1,null]}'],
    ["UUID", UUID, UUID],
  ],
  mysql: [["JSON", { a: [1, null] }, '{"a": [1, null]}']],
};

const title = isServer ? (isPostgres ? "postgres" : theServer.key) : "duckdb";
const OWN_TYPES = [
  "CREATE TYPE huts.region AS ENUM ('north', 'it''s')",
  "CREATE DOMAIN huts.few AS integer CHECK (VALUE < 10)",
];

describe(`the types of ${title}`, () => {
  const cases = [...CASES[title === "mysql" ? "mariadb" : title]!, ...(OF_MAKE[title] ?? [])];

  it("take what comes, and are not written again", async () => {
    const columns = cases.map(([type], i) => `c${i} ${type}`).join(", ");
    const { run, rows } = await userHouse([
      ...(isPostgres ? OWN_TYPES : []),
      `CREATE TABLE huts.contacts (id INTEGER PRIMARY KEY, ${columns})`,
    ]);
    const record = { id: 1, ...Object.fromEntries(cases.map(([, came], i) => [`c${i}`, came])) };
    const nothing = { id: 2, ...Object.fromEntries(cases.map((_, i) => [`c${i}`, null])) };
    const report = await run([record, nothing], { into: { table: "contacts" } });
    expect(report.error).toBeUndefined();
    expect(report.streams[0]).toMatchObject({ added: 2, quarantined: 0 });
    const [first, second] = await rows();
    const found = cases.map(([type], i) => [type, first![`c${i}`]]);
    expect(found).toEqual(cases.map(([type, , stands]) => [type, stands]));
    expect(Object.values(second!).filter((value) => value !== null)).toEqual(["2"]);
    const again = await run([record, nothing], { into: { table: "contacts" } });
    expect(again.streams[0]).toMatchObject({ unchanged: 2, changed: 0 });
  });
});
