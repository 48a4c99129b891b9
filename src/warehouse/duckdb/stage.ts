/**
 * Stages: what waits for the next checkpoint, gathered on the main thread while the last one is committed on another.
 *
 *   few rows ── appender ─▶ a table in a memory database beside the file
 *   many     ── copied ───▶ a Parquet file, which DuckDB reads on its own threads; into the table where statements
 *                           change it. Several, where each goes into the table of the stream ahead: see `ahead.ts`
 */

import type { DuckDBAppender, DuckDBConnection, DuckDBDataChunk } from "@duckdb/node-api";
import type { Vector } from "@duckdb/node-bindings";
import type { ColumnBatch, TableBatch, Utf8Texts } from "../../core/shape/batch.js";
import { bytesOfText, fixedWidth, hasValue } from "../../core/shape/batch.js";
import type { ColumnSchema, TableSchema } from "../../core/shape/table-shape.js";
import { type ParquetColumn, RowGroup } from "../parquet/parquet.js";
import { insertStatement, stageColumns, stageStatements } from "../sql/merge-plan.js";
import { SEQUENCE_COLUMN, type Stage, type StageUse } from "../sql/stage.js";
import type { Ahead } from "./ahead.js";
import type { BlockCache } from "./block-cache.js";
import { bindings, driver } from "./driver.js";
import type { RowGroups } from "./row-groups.js";
import type { StageFile, StageFolder } from "./stage-folder.js";
import { STAGE_SIZES } from "./stage-sizes.js";
import { DUCKDB, quoteName, quoteText, STAGE_DATABASE, vectorType } from "./types.js";

/** rows of a DuckDB vector */
const CHUNK_ROWS = 2048;
/** A page's rows, and the number of its first record. */
interface Waiting {
  readonly batch: TableBatch;
  readonly firstSeq: number;
}

/** The number of a row's record, as a column of its own. */
const SEQUENCE: ParquetColumn = { name: "c0", type: { kind: "int64" } };

/** What the stages of a session share. */
export interface StagePlace {
  /** for rows on their way */
  readonly waiting: StageFolder;
  readonly cache: BlockCache;
  readonly groups: RowGroups;
}

export class StageTable implements Stage {
  rows = 0;
  /** what its values take, about */
  private bytes = 0;
  private columns: readonly ColumnSchema[] = [];
  private appender: DuckDBAppender | undefined;
  private chunk: DuckDBDataChunk | undefined;
  /** rows that are neither in the table nor in a group yet */
  private waiting: Waiting[] = [];
  private waitingRows = 0;
  private waitingBytes = 0;
  private groups: RowGroup[] = [];
  /** the last of them may still grow */
  private files: StageFile[] = [];
  private isGrowing = false;
  private tableRows = 0;
  /** how many went on their way ahead */
  private rowsAhead = 0;
  private schema: TableSchema | undefined;

  constructor(
    private readonly connection: DuckDBConnection,
    private readonly place: StagePlace,
    /** name of the stage table in the stage database */
    readonly name: string,
    readonly table: string,
    /** where rows may go into their table ahead */
    private readonly ahead?: Ahead,
    private readonly into?: StageUse["ahead"],
  ) {}

  get sqlName(): string {
    return this.files.length === 0 ? this.tableName : `(${this.filesQuery()})`;
  }

  get isStraight(): boolean {
    return this.ahead?.committing !== undefined && !this.ahead.hasMade;
  }

  /** all of its rows went ahead */
  get isAhead(): boolean {
    return this.rowsAhead === this.rows;
  }

  /** what its rows take where they are long, else none */
  get longBytes(): number {
    return this.bytes < this.rows * STAGE_SIZES.longRow ? 0 : this.bytes;
  }

  private get tableName(): string {
    return `${STAGE_DATABASE}.main.${quoteName(this.name)}`;
  }

  setSchema(schema: TableSchema): Promise<void> {
    return this.place.cache.during(() => this.bringTo(schema));
  }

  private async bringTo(schema: TableSchema): Promise<void> {
    const place = { stage: this.tableName, temporary: false };
    const statements = stageStatements(DUCKDB, place, this.columns, schema);
    this.schema = schema;
    if (statements.length === 0) return;
    // rows of another form are not for the table as it stands
    if (this.columns.length > 0 && this.ahead?.isUnderWay === true) await this.ahead.giveUp();
    await this.allIntoTable();
    this.closeAppender();
    for (const statement of statements) await this.connection.run(statement);
    this.columns = stageColumns(this.columns, schema);
    this.chunk = driver.DuckDBDataChunk.create([
      driver.BIGINT,
      ...this.columns.map((column) => vectorType(column.type)),
    ]);
    this.appender = await this.connection.createAppender(this.name, "main", STAGE_DATABASE);
  }

  async append(batch: TableBatch, firstSeq: number): Promise<void> {
    this.waiting.push({ batch, firstSeq });
    this.waitingRows += batch.rows;
    const bytes = bytesOf(batch);
    this.waitingBytes += bytes;
    this.bytes += bytes;
    this.rows += batch.rows;
    if (this.waitingRows < STAGE_SIZES.fewRows && this.waitingBytes < STAGE_SIZES.fileBytes) return;
    this.group();
    if (this.groups.reduce((sum, { bytes }) => sum + bytes, 0) >= STAGE_SIZES.fileBytes)
      await this.writeGroups();
    if (this.into !== undefined && this.isGrowing && this.files.at(-1)!.rows >= STAGE_SIZES.aheadRows)
      await this.finishFile(true);
  }

  async flush(): Promise<void> {
    this.place.groups.come(this.longBytes);
    await this.place.cache.during(() => this.allIntoOne());
    await this.ahead?.arrived();
  }

  /** With its rows the table was made ahead. */
  become(): readonly string[] | undefined {
    return this.ahead?.committing !== undefined && this.ahead.hasMade ? [] : undefined;
  }

  writable(): Promise<void> {
    return this.place.cache.during(() => this.allIntoTable());
  }

  async drop(): Promise<void> {
    await this.place.cache.during(async () => this.closeAppender());
    await this.ahead?.arrived();
    await this.removeFiles();
    await this.place.cache.during(() => this.connection.run(`DROP TABLE IF EXISTS ${this.tableName}`));
  }

  /** Rows are in the table, or in a file that can be read. */
  private async allIntoOne(): Promise<void> {
    const isAhead = this.ahead?.isUnderWay === true;
    if (this.groups.length === 0 && this.files.length === 0 && !isAhead) this.appendWaiting();
    else {
      this.group();
      await this.writeGroups();
      await this.finishFile(false);
      // rows are in one place or the other
      if (this.tableRows > 0) await this.intoTable();
    }
    this.appender?.flushSync();
  }

  private async allIntoTable(): Promise<void> {
    await this.allIntoOne();
    await this.intoTable();
  }

  private takeWaiting(): Waiting[] {
    const { waiting } = this;
    this.waiting = [];
    this.waitingRows = 0;
    this.waitingBytes = 0;
    return waiting;
  }

  /** Rows go into the table by calls of the driver: a call for each text. */
  private appendWaiting(): void {
    const { chunk, appender } = this;
    for (const { batch, firstSeq } of this.takeWaiting()) {
      if (chunk === undefined || appender === undefined) throw new Error(`stage ${this.name} has no schema`);
      const byName = columnsByName(batch);
      const sources = this.columns.map((column) => vectorSource(byName.get(column.name), batch.rows));
      const sequence = sequenceBytes(batch.recordOf, firstSeq);
      for (let from = 0; from < batch.rows; from += CHUNK_ROWS) {
        const rows = Math.min(CHUNK_ROWS, batch.rows - from);
        chunk.reset();
        chunk.rowCount = rows;
        const target = bindings.data_chunk_get_vector(chunk.chunk, 0);
        bindings.copy_data_to_vector(target, 0, sequence, from * 8, rows * 8);
        for (let i = 0; i < sources.length; i++) {
          fillVector(bindings.data_chunk_get_vector(chunk.chunk, i + 1), sources[i]!, from, rows);
        }
        appender.appendDataChunk(chunk);
      }
      this.tableRows += batch.rows;
    }
  }

  private fileColumns(): readonly ParquetColumn[] {
    return [SEQUENCE, ...this.columns.map(({ type }, i) => ({ name: `c${i + 1}`, type }))];
  }

  /** Rows become pages of a file: many small batches one page of each column. */
  private group(): void {
    if (this.waiting.length === 0) return;
    let last = this.groups.at(-1);
    if (last === undefined || last.rows >= STAGE_SIZES.groupRows) {
      last = new RowGroup(this.fileColumns());
      this.groups.push(last);
    }
    const batches = this.takeWaiting().map(({ batch, firstSeq }) => {
      const byName = columnsByName(batch);
      const data = sequenceBytes(batch.recordOf, firstSeq);
      const sequence: ColumnBatch = { ...SEQUENCE, data, texts: undefined, validity: undefined };
      return { columns: [sequence, ...this.columns.map(({ name }) => byName.get(name))], rows: batch.rows };
    });
    last.add(batches);
  }

  private async writeGroups(): Promise<void> {
    const { groups } = this;
    if (groups.length === 0) return;
    this.groups = [];
    if (!this.isGrowing) this.files.push(await this.place.waiting.create(this.fileColumns()));
    this.isGrowing = true;
    await this.files.at(-1)!.add(groups);
  }

  /** The file that grows is whole; its rows go into their table ahead where others do, or are the first. */
  private async finishFile(mayBegin: boolean): Promise<void> {
    if (!this.isGrowing) return;
    const file = this.files.at(-1)!;
    await file.finish();
    this.isGrowing = false;
    const { ahead, into, schema } = this;
    if (ahead === undefined || schema === undefined || !(mayBegin || ahead.isUnderWay)) return;
    const rows = `(${this.fileQuery(file)})`;
    ahead.put({
      into: async () => into?.(schema),
      statement: (target) => insertStatement(DUCKDB, target.sqlName, rows, schema, target),
    });
    this.rowsAhead += file.rows;
  }

  private fileQuery({ path }: StageFile): string {
    const names = [SEQUENCE_COLUMN, ...this.columns.map(({ name }) => name)];
    const columns = names.map((name, i) => `c${i} AS ${quoteName(name)}`);
    return `SELECT ${columns.join(", ")} FROM read_parquet(${quoteText(path)})`;
  }

  /** One by one: of a list of files DuckDB guesses how many rows they have, and joins it from the wrong side. */
  private filesQuery(): string {
    return this.files.map((file) => this.fileQuery(file)).join(" UNION ALL ");
  }

  private async intoTable(): Promise<void> {
    if (this.files.length === 0) return;
    await this.connection.run(`INSERT INTO ${this.tableName} BY NAME ${this.filesQuery()}`);
    this.tableRows = this.rows;
    await this.removeFiles();
  }

  private async removeFiles(): Promise<void> {
    for (const file of this.files.splice(0)) await file.remove();
    this.isGrowing = false;
  }

  private closeAppender(): void {
    this.appender?.closeSync();
    this.appender = undefined;
  }
}

/** What the values of a batch take, about. */
function bytesOf({ columns }: TableBatch): number {
  let bytes = 0;
  for (const { data, utf8, texts } of columns) {
    bytes += (data?.byteLength ?? 0) + (utf8?.bytes.length ?? 0);
    for (const text of texts ?? []) bytes += text.length;
  }
  return bytes;
}

const columnsByName = ({ columns }: TableBatch) => new Map(columns.map((column) => [column.name, column]));

/** A column ready to be copied: DuckDB's width, or texts. */
interface VectorSource {
  readonly data: ArrayBuffer | undefined;
  readonly width: number;
  readonly texts: readonly string[] | undefined;
  readonly utf8: Utf8Texts | undefined;
  readonly blob: boolean;
  readonly validity: Uint8Array<ArrayBuffer> | undefined;
}

function vectorSource(column: ColumnBatch | undefined, rows: number): VectorSource {
  if (column === undefined) {
    const validity = new Uint8Array(Math.ceil(rows / 64) * 8);
    return { data: undefined, width: 0, texts: undefined, utf8: undefined, blob: false, validity };
  }
  const { type, validity, texts, utf8 } = column;
  const blob = type.kind === "bytes";
  let data = column.data;
  let width = fixedWidth(type);
  if (type.kind === "decimal" && type.precision <= 9 && data !== undefined) {
    width = type.precision <= 4 ? 2 : 4;
    data = narrowDecimals(data, rows, width);
  } else if (type.kind === "uuid" && data !== undefined) data = uuidsAsHugeints(data, rows);
  return { data, width, texts, utf8, blob, validity };
}

function fillVector(vector: Vector, source: VectorSource, from: number, rows: number): void {
  const { data, width, texts, utf8, blob, validity } = source;
  if (validity !== undefined) {
    bindings.vector_ensure_validity_writable(vector);
    // validity is copied in whole words of 64 rows; chunks begin at a multiple of them
    const bytes = Math.ceil(rows / 64) * 8;
    const at = validity.byteOffset + (from >> 3);
    bindings.copy_data_to_vector_validity(vector, 0, validity.buffer, at, bytes);
  }
  if (data !== undefined) bindings.copy_data_to_vector(vector, 0, data, from * width, rows * width);
  else
    for (let row = 0; row < rows; row++) {
      const at = from + row;
      if (!hasValue(validity, at)) continue;
      const text = texts?.[at];
      if (text !== undefined && !blob) bindings.vector_assign_string_element(vector, row, text);
      else {
        const bytes = text === undefined ? bytesOfText(utf8!, at) : Buffer.from(text, "base64");
        bindings.vector_assign_string_element_len(vector, row, bytes);
      }
    }
}

/** Small decimals are int16 or int32 in DuckDB: the low part of the unscaled int64. */
function narrowDecimals(data: ArrayBuffer, rows: number, width: number): ArrayBuffer {
  const halves = new Int32Array(data);
  const narrow = width === 2 ? new Int16Array(rows) : new Int32Array(rows);
  for (let row = 0; row < rows; row++) narrow[row] = halves[row * 2]!;
  return narrow.buffer;
}

/** DuckDB keeps a UUID as a 128-bit integer, low word first, with the highest bit turned over. */
function uuidsAsHugeints(data: ArrayBuffer, rows: number): ArrayBuffer {
  const bytes = new DataView(data);
  const words = new BigUint64Array(rows * 2);
  for (let row = 0; row < rows; row++) {
    words[row * 2] = bytes.getBigUint64(row * 16 + 8);
    words[row * 2 + 1] = bytes.getBigUint64(row * 16) ^ (1n << 63n);
  }
  return words.buffer;
}

function sequenceBytes(recordOf: Int32Array, firstSeq: number): ArrayBuffer {
  const sequence = new Int32Array(recordOf.length * 2);
  for (let row = 0; row < recordOf.length; row++) {
    const value = firstSeq + recordOf[row]!;
    const high = Math.floor(value / 4294967296);
    sequence[row * 2] = value - high * 4294967296;
    sequence[row * 2 + 1] = high;
  }
  return sequence.buffer;
}
