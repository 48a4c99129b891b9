/**
 * The ledger as files in a store. A file has a packed part for each table, and one before them that tells their
 * lengths: those of tables that a commit has left alone are taken over as they are.
 *
 * Each commit writes the whole of it under the next number, where there is none yet: that file is the commit. The
 * highest number counts, so that of two processes that write at once one finds its number taken and gives up, and a
 * reader never sees half.
 *
 *   {"table":"","columns":null,"row":{"parts":[{"name":"runs", …}]}}
 *   {"table":"runs","columns":{"run":"BIGINT", …},"row":null}     what a table is
 *   {"table":"runs","columns":null,"row":{"run":"1", …}}          a row of it, values as texts
 */

import { createReadStream, createWriteStream } from "node:fs";
import { appendFile, open, readFile, stat, writeFile } from "node:fs/promises";
import { join } from "node:path";
import { pipeline } from "node:stream/promises";
import { constants, gunzipSync, gzipSync } from "node:zlib";
import { BridgeError } from "../../core/errors.js";
import { DUCKDB, FILE_DATABASE, quoteName, quoteText } from "../duckdb/types.js";
import type { SqlConnection } from "../sql/dialect.js";
import { LEDGER_SCHEMA, ledgerSchema } from "../sql/ledger-schema.js";
import { OWN_FOLDER, runText } from "./names.js";
import type { Store } from "./store.js";

const PREFIX = `${OWN_FOLDER}/ledger-`;
const ENDING = ".jsonl.gz";
const SCHEMA = ledgerSchema(DUCKDB);
/** A table of the ledger, as statements name it. */
const OF_LEDGER = new RegExp(`${SCHEMA.replaceAll(".", "\\.")}\\.(\\w+)`, "g");
const LINES = "format = 'newline_delimited', maximum_object_size = 1073741824";

interface LedgerTable {
  readonly name: string;
  /** types in DuckDB's words, by column */
  readonly columns: Readonly<Record<string, string>>;
}

/** A table's part of a file. */
interface LedgerPart extends LedgerTable {
  /** packed */
  readonly bytes: number;
}

export class LedgerFile {
  private number = 0;
  /** those of before, newest last */
  private old: number[] = [];
  /** tables whose part is to be written, or all of them */
  private changed: Set<string> | "all" = "all";
  private tables: readonly LedgerTable[] = [];

  constructor(
    private readonly store: Store,
    /** a folder of this machine */
    private readonly scratch: string,
  ) {}

  /** Reads the ledger into the database; false where there is none. */
  async bringIn(on: SqlConnection): Promise<boolean> {
    const path = join(this.scratch, `ledger${ENDING}`);
    await this.fetchNewest(path);
    if (this.number === 0) return false;
    try {
      const parts = await this.takeParts(path);
      await on.run(DUCKDB.makeSchema(LEDGER_SCHEMA));
      // a file of an earlier version does not say where its parts are
      for (const table of parts ?? (await tablesIn(on, path)))
        await bringTable(on, table, parts === undefined ? path : this.partOf(table));
      this.tables = parts ?? [];
      this.changed = parts === undefined ? "all" : new Set();
      return true;
    } catch (cause) {
      throw new BridgeError(
        "WAREHOUSE_NOT_OURS",
        `The ledger ${nameOf(this.number)} cannot be read: it is damaged.`,
        {
          hint: "Bring back a copy of the folder, or choose an empty one: then all is asked for again.",
          cause,
        },
      );
    }
  }

  /** Splits a file into its parts; undefined where it does not say where they are. */
  private async takeParts(path: string): Promise<readonly LedgerPart[] | undefined> {
    const parts = await partsIn(path);
    const all = (parts ?? []).reduce((sum, { bytes }) => sum + bytes, 0);
    let start = (await stat(path)).size - all;
    for (const part of parts ?? []) {
      const bytes = createReadStream(path, { start, end: start + part.bytes - 1 });
      await pipeline(bytes, createWriteStream(this.partOf(part)));
      start += part.bytes;
    }
    return parts;
  }

  /** Fetches the file of the highest number. Whoever only reads may be slower than one that writes and tidies up. */
  private async fetchNewest(path: string): Promise<void> {
    for (let before = 0; ; before = this.number) {
      const files = await this.store.list(PREFIX);
      const numbers = files.map(({ name }) => Number(name.slice(PREFIX.length, -ENDING.length)));
      this.old = numbers.filter(Number.isInteger).sort((a, b) => a - b);
      this.number = this.old.pop() ?? 0;
      if (this.number === 0) return;
      try {
        return await this.store.fetch(nameOf(this.number), path);
      } catch (error) {
        if (this.number === before) throw error;
      }
    }
  }

  /** Notes which tables of the ledger a statement changes. */
  willRun(sql: string): void {
    if (/^\s*(?:CREATE|ALTER|DROP)\b/.test(sql) && sql.includes(SCHEMA)) this.changed = "all";
    if (this.changed === "all" || /^\s*(?:SELECT|COPY)\b/.test(sql)) return;
    for (const [, table] of sql.matchAll(OF_LEDGER)) this.changed.add(table!);
  }

  /** Whether a transaction has changed a table of the ledger. */
  hasChanged(table: string): boolean {
    return this.changed === "all" || this.changed.has(table);
  }

  /** Writes the ledger as it stands in the transaction. @throws BridgeError WAREHOUSE_LOCKED, FILE_UNWRITABLE */
  async publish(on: SqlConnection): Promise<void> {
    if (this.changed === "all") this.tables = await tablesOf(on);
    for (const table of this.tables.filter(({ name }) => this.hasChanged(name)))
      await on.run(
        `COPY (${exportQuery(table)}) TO ${quoteText(this.partOf(table))} (FORMAT json, COMPRESSION gzip)`,
      );
    const path = join(this.scratch, `ledger-next${ENDING}`);
    const parts: LedgerPart[] = [];
    for (const table of this.tables) parts.push({ ...table, bytes: (await stat(this.partOf(table))).size });
    // members of gzip, one behind the other, are one file: RFC 1952, section 2.2
    await writeFile(path, gzipSync(`${JSON.stringify({ table: "", columns: null, row: { parts } })}\n`));
    for (const table of this.tables) await appendFile(path, await readFile(this.partOf(table)));
    const name = nameOf(this.number + 1);
    if (!(await this.store.putNew(path, name)))
      throw new BridgeError(
        "WAREHOUSE_LOCKED",
        "Another process has written into the same folder meanwhile.",
        {
          hint: "One process at a time may run bridges into a folder. What was committed stands; run again.",
        },
      );
    if (this.number > 0) this.old.push(this.number);
    this.number++;
  }

  /** The last transaction is over: what the next one changes is noted from here on; parts that it has not left stay. */
  over(isCommitted: boolean): void {
    this.changed = isCommitted ? new Set() : "all";
  }

  private partOf({ name }: LedgerTable): string {
    return join(this.scratch, `ledger-part-${name}${ENDING}`);
  }

  /** Removes ledgers of commits before the last one. */
  async tidy(): Promise<void> {
    for (const number of this.old.splice(0, this.old.length - 1)) await this.store.remove(nameOf(number));
  }
}

const nameOf = (number: number) => `${PREFIX}${runText(number)}${ENDING}`;

/** More than the first part is long; packed bytes. */
const FEW_BYTES = 65_536;

const linesOf = (path: string) =>
  `read_json(${quoteText(path)}, ${LINES}, columns = {"table": 'VARCHAR', "columns": 'JSON', "row": 'JSON'})`;

/** What a file's first part says of the others; undefined where it says nothing. */
async function partsIn(path: string): Promise<readonly LedgerPart[] | undefined> {
  const file = await open(path);
  try {
    const { buffer, bytesRead } = await file.read(Buffer.alloc(FEW_BYTES), 0, FEW_BYTES, 0);
    const packed = buffer.subarray(0, bytesRead);
    const [line = ""] = gunzipSync(packed, { finishFlush: constants.Z_SYNC_FLUSH })
      .toString("utf8")
      .split("\n");
    return (JSON.parse(line) as { row: { parts?: LedgerPart[] } | null }).row?.parts;
  } finally {
    await file.close();
  }
}

/** The tables of a file that does not say where their parts are. */
async function tablesIn(on: SqlConnection, path: string): Promise<LedgerTable[]> {
  const rows = await on.rows(
    `SELECT "table", "columns"::VARCHAR AS columns FROM ${linesOf(path)} WHERE "columns" IS NOT NULL`,
  );
  return rows.map((row) => ({ name: String(row.table), columns: JSON.parse(String(row.columns)) }));
}

async function bringTable(on: SqlConnection, { name, columns }: LedgerTable, path: string): Promise<void> {
  const table = `${SCHEMA}.${quoteName(name)}`;
  const names = Object.keys(columns);
  const typed = names.map((each) => `${quoteName(each)} ${columns[each]}`).join(", ");
  await on.run(`CREATE TABLE ${table} (${typed})`);
  if (await isEmpty(path)) return;
  const cells = names.map((each) => `("row"->>${quoteText(`$.${JSON.stringify(each)}`)})::${columns[each]}`);
  await on.run(
    `INSERT INTO ${table} SELECT ${cells.join(", ")} FROM ${linesOf(path)} WHERE "table" = ${quoteText(name)} AND "row" IS NOT NULL`,
  );
}

/** Whether a part holds no row: many tables have none, and a statement for each takes its time. */
async function isEmpty(path: string): Promise<boolean> {
  if ((await stat(path)).size > FEW_BYTES) return false;
  const lines = gunzipSync(await readFile(path));
  return lines.indexOf("\n") === lines.length - 1;
}

async function tablesOf(on: SqlConnection): Promise<LedgerTable[]> {
  const rows = await on.rows(
    `SELECT c.table_name AS name, c.column_name AS column, c.data_type AS type FROM information_schema.columns AS c
     JOIN information_schema.tables AS t USING (table_catalog, table_schema, table_name)
     WHERE c.table_catalog = '${FILE_DATABASE}' AND c.table_schema = '${LEDGER_SCHEMA}' AND t.table_type = 'BASE TABLE'
     ORDER BY name, c.ordinal_position`,
  );
  const tables = new Map<string, Record<string, string>>();
  for (const { name, column, type } of rows) {
    const columns = tables.get(String(name)) ?? {};
    columns[String(column)] = String(type);
    tables.set(String(name), columns);
  }
  return [...tables].map(([name, columns]) => ({ name, columns }));
}

/** The lines of a table. */
function exportQuery({ name, columns }: LedgerTable): string {
  const table = quoteText(name);
  const cells = Object.keys(columns).map((each) => `${quoteName(each)}::VARCHAR AS ${quoteName(each)}`);
  const rows = `SELECT ${cells.join(", ")} FROM ${SCHEMA}.${quoteName(name)} ORDER BY rowid`;
  return `SELECT ${table} AS "table", ${quoteText(JSON.stringify(columns))}::JSON AS "columns", NULL::JSON AS "row"
    UNION ALL SELECT ${table}, NULL, to_json(r) FROM (${rows}) AS r`;
}
