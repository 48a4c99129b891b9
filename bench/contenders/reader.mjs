// DuckDB's own JSON reader, schema given, from files on disk; lists by unnest.
import { join } from "node:path";
import { DuckDBInstance } from "@duckdb/node-api";
import { SETS } from "../sets.mjs";
import { database, folder, measured, set } from "./report.mjs";

const { struct, tables } = SETS[set];

await measured(async () => {
  const instance = await DuckDBInstance.create(database);
  const connection = await instance.connect();
  const source = `read_json('${join(folder, "*.json")}', columns = {items: '${struct.replaceAll("'", "''")}[]'}, maximum_object_size = 67108864)`;
  await connection.run("BEGIN");
  await connection.run(`CREATE TEMP TABLE raw AS SELECT unnest(items) AS r FROM ${source}`);
  for (const [name, select] of Object.entries(tables))
    await connection.run(`CREATE TABLE ${name} AS ${select}`);
  await connection.run("COMMIT");
  const rows = {};
  for (const name of Object.keys(tables)) {
    const counted = await connection.runAndReadAll(`SELECT count(*) AS n FROM ${name}`);
    rows[name] = Number(counted.getRowObjectsJS()[0].n);
  }
  connection.closeSync();
  instance.closeSync();
  return rows;
});
