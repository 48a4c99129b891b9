/** The tables of a file are asked for once, and again when they have changed. */

import { expect, it } from "vitest";
import { Catalog } from "./catalog.js";

it.each([
  ['CREATE TABLE eb_file."huts"."stays" (id BIGINT)', 2],
  ['CREATE OR REPLACE VIEW eb_file."huts"."open" AS SELECT 1', 2],
  ['ALTER TABLE eb_file."huts"."stays" ADD COLUMN n BIGINT', 2],
  ['  DROP TABLE eb_file."huts"."stays"', 2],
  ["ROLLBACK", 2],
  ['CREATE SCHEMA IF NOT EXISTS eb_file."huts"', 1],
  ['CREATE TEMPORARY TABLE same AS SELECT id FROM eb_file."huts"."stays"', 1],
  ["DROP TABLE same", 1],
  ['INSERT INTO eb_file."huts"."stays" VALUES (1)', 1],
  ["COMMIT", 1],
])("behind %s they have been asked for %i times", async (sql, times) => {
  let asked = 0;
  const catalog = new Catalog(async () => {
    asked++;
    return [{ table_name: "stays", column_name: "id" }];
  });
  const connection = catalog.keptBy({ run: async () => {}, rows: async () => [] });
  await catalog.columnsOf("huts");
  await connection.run(sql);
  expect(await catalog.columnsOf("huts")).toEqual(new Map([["stays", new Set(["id"])]]));
  expect(asked).toBe(times);
});
