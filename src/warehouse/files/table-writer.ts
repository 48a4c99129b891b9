/**
 * Which files a commit makes of a stream's tables.
 *
 *   append                       the new rows of each table, in files of their own
 *   upsert, replace, versions    each table whose rows are others now, whole; the files before it go
 *
 * Rows are known again by what stands: where readers get other forms than Parquet, or may take files away, what is
 * needed is kept beside, in Parquet.
 */

import { randomBytes } from "node:crypto";
import { join } from "node:path";
import type { FilesOptions } from "../../core/define/files-schema.js";
import { BridgeError } from "../../core/errors.js";
import { RUN_COLUMN } from "../../core/shape/own-columns.js";
import { FULL_GROUP } from "../duckdb/row-groups.js";
import { STAGE_SIZES } from "../duckdb/stage-sizes.js";
import { DUCKDB, quoteName, quoteText, tableName } from "../duckdb/types.js";
import type { SqlConnection, StandingColumns } from "../sql/dialect.js";
import { ledgerSchema } from "../sql/ledger-schema.js";
import type { LeftTables } from "../sql/load-ports.js";
import type { LoadOptions, StreamPlace } from "../warehouse.js";
import { filesOf, type TableFile } from "./file-list.js";
import { parquetStatement } from "./form.js";
import { ASIDE, fileName, KEPT, NO_DAY, numbered, runText } from "./names.js";
import type { Store } from "./store.js";
import { contentOf, type Written, withOwn, writeDelivered, writeFile } from "./write-files.js";

/** The files of a commit, and the paths of those that are none of the table's any more. */
export interface NewFiles {
  readonly files: readonly TableFile[];
  readonly gone: readonly string[];
}

/** Rows of a group in a Parquet file, at least: it is held whole to be packed. */
const FEWEST_ROWS = 64;

/** Whether files come beside those that stand, which stay as they are. */
export const comesBeside = ({ write }: LoadOptions) => write.standing === "kept" && !write.buildsBeside;

/** A table's rows that go into files. */
interface Part {
  readonly options: LoadOptions;
  readonly table: string;
  readonly columns: StandingColumns;
  /** what stands after FROM */
  readonly rows: string;
  readonly count: number;
  readonly isWhole: boolean;
  readonly content: string;
  /** rows of a group, where the form has groups */
  readonly groupRows: number;
}

export class TableWriter {
  /** rows of tables that are in files, where new ones come beside them; by table */
  private written = new Map<string, number>();
  private writing = new Map<string, number>();
  /** streams whose rows stand in the DuckDB file as they stand in files */
  private readonly filled = new Set<string>();
  /** rows in files that this session has written, by stream */
  private readonly inFiles = new Map<string, number>();
  /** files of a run so far, by table */
  private readonly numbers = new Map<string, number>();
  /** paths of the files of the commit under way */
  private readonly paths = new Set<string>();

  constructor(
    private readonly store: Store,
    private readonly options: FilesOptions,
    private readonly scratch: string,
  ) {}

  begin(): void {
    this.writing = new Map();
    this.paths.clear();
  }

  committed(): void {
    this.written = new Map([...this.written, ...this.writing]);
  }

  /** Rows of a table that stand already, and are in files. */
  stands(of: StreamPlace, table: string, rows: number): void {
    this.written.set(tableKey(of, table), rows);
  }

  isFilled(of: StreamPlace): boolean {
    return this.filled.has(keyOf(of));
  }

  fill(of: StreamPlace): void {
    this.filled.add(keyOf(of));
  }

  /** Rows in the files of a stream, where this session has written them. */
  rowsOf(of: StreamPlace): number | undefined {
    return this.inFiles.get(keyOf(of));
  }

  forget(of: StreamPlace): void {
    this.filled.delete(keyOf(of));
    this.inFiles.delete(keyOf(of));
    for (const key of this.written.keys()) if (key.startsWith(tableKey(of, ""))) this.written.delete(key);
  }

  async write(on: SqlConnection, left: LeftTables): Promise<NewFiles> {
    const { options, tables } = left;
    const before = await filesOf(on, options);
    const isBeside = comesBeside(options);
    const files: TableFile[] = [];
    const gone = new Set(
      before.filter(({ table }) => !isBeside && !tables.has(table)).map(({ path }) => path),
    );
    for (const [table, columns] of tables) {
      const old = before.filter((file) => file.table === table);
      const part = isBeside
        ? await this.newRows(on, options, table, columns)
        : await this.wholeTable(on, options, table, columns, old);
      if (part === undefined) continue;
      if (!isBeside) for (const { path } of old) gone.add(path);
      files.push(...(await this.filesOf(on, part, old, gone)));
    }
    for (const { path } of files) gone.delete(path);
    const written = files.filter(({ isKept }) => !isKept).reduce((sum, { rows }) => sum + rows, 0);
    if (written > 0) this.inFiles.set(keyOf(options), written);
    return { files, gone: [...gone] };
  }

  private async newRows(
    on: SqlConnection,
    options: LoadOptions,
    table: string,
    columns: StandingColumns,
  ): Promise<Part | undefined> {
    const name = tableName(options.schema, table);
    const key = tableKey(options, table);
    const from = this.written.get(key) ?? 0;
    const rows = Number((await on.rows(`SELECT count(*) AS n FROM ${name}`))[0]?.n);
    this.writing.set(key, rows);
    if (rows < from) throw new BridgeError("INTERNAL", `Of ${from} rows of ${table}, ${rows} are left.`);
    if (rows === from) return undefined;
    const own = { options, table, columns: withOwn(columns) };
    // of long rows few come at a time
    const last = this.lastRows(options, table, rows - from);
    return { ...own, ...last, isWhole: false, content: "", groupRows: FULL_GROUP };
  }

  /** The whole table, where its rows are not those of the files that stand. */
  private async wholeTable(
    on: SqlConnection,
    options: LoadOptions,
    table: string,
    columns: StandingColumns,
    old: readonly TableFile[],
  ): Promise<Part | undefined> {
    // nothing came: its rows were not even fetched
    if (old.length > 0 && !this.isFilled(options)) return undefined;
    const rows = tableName(options.schema, table);
    // which run wrote a row last is told by it
    const told = new Map([...columns, [RUN_COLUMN, { kind: "int64" } as const]]);
    const { count, textBytes, content } = await contentOf(on, rows, told, JSON.stringify(this.options));
    if (old.length > 0 && old.every((file) => file.content === content)) return undefined;
    const suiting = (STAGE_SIZES.groupBytes * count) / Math.max(1, textBytes);
    const groupRows = Math.min(FULL_GROUP, Math.max(FEWEST_ROWS, Math.floor(suiting)));
    return { options, table, columns: withOwn(columns), rows, count, isWhole: true, content, groupRows };
  }

  /** The files of new rows, or of a whole table. `gone`: paths of files that go with it, to which it may add. */
  private async filesOf(
    on: SqlConnection,
    part: Part,
    old: readonly TableFile[],
    gone: Set<string>,
  ): Promise<TableFile[]> {
    const { day } = this.options;
    const column = day === undefined ? undefined : part.columns.get(day);
    const days = column === undefined ? [undefined] : await daysOf(on, part.rows, day!);
    const files: TableFile[] = [];
    for (const value of days) {
      const rows =
        value === undefined
          ? part.rows
          : `(SELECT * FROM ${part.rows}) WHERE ${dayText(day!)} = ${quoteText(value)}`;
      files.push(await this.delivered(on, { ...part, rows }, value, gone));
    }
    const sum = files.reduce((rows, file) => rows + file.rows, 0);
    if (sum !== part.count)
      throw new BridgeError("INTERNAL", `Of ${part.count} rows of ${part.table}, ${sum} went into files.`);
    const kept = await this.keptColumns(on, part);
    if (kept === undefined) return files;
    const together = this.withLastKept(part, old);
    files.push(await this.kept(on, together.part, kept));
    for (const path of together.paths) gone.add(path);
    return files;
  }

  /**
   * New rows, with those of the files kept last that have no more rows than come behind them, and go. So few files are
   * there to be read back, however many runs there were, and a row is written anew a few times only.
   */
  private withLastKept(
    part: Part,
    old: readonly TableFile[],
  ): { readonly part: Part; readonly paths: readonly string[] } {
    if (part.isWhole) return { part, paths: [] };
    const { options, table } = part;
    const paths: string[] = [];
    let { count } = part;
    for (const { rows, path } of old.filter(({ isKept }) => isKept).reverse()) {
      if (rows > count) break;
      count += rows;
      paths.push(path);
    }
    return { part: { ...part, ...this.lastRows(options, table, count) }, paths };
  }

  /** Rows that come are at the end, and none goes. */
  private lastRows(of: LoadOptions, table: string, count: number): Pick<Part, "rows" | "count"> {
    const standing = this.writing.get(tableKey(of, table)) ?? 0;
    return { rows: `${tableName(of.schema, table)} WHERE rowid >= ${standing - count}`, count };
  }

  private async delivered(
    on: SqlConnection,
    part: Part,
    day: string | undefined,
    free: ReadonlySet<string>,
  ): Promise<TableFile> {
    const { options, table, columns, rows, isWhole, groupRows } = part;
    const key = `${options.run} ${tableName(options.schema, table)} ${day}`;
    const number = (this.numbers.get(key) ?? 0) + 1;
    this.numbers.set(key, number);
    const path = await this.freePath(
      on,
      fileName(this.options, options, table, { isWhole, number, day }),
      free,
    );
    const aside = asideOf(path);
    const written = await writeDelivered(on, rows, columns, this.at(aside), this.options, groupRows);
    return entryOf(part, { path, aside, format: this.options.format, day, columns }, written);
  }

  /** The columns that have to be kept beside what readers get; undefined: none. */
  private async keptColumns(
    on: SqlConnection,
    { options, table, columns, isWhole }: Part,
  ): Promise<StandingColumns | undefined> {
    if (isWhole) return this.options.format === "parquet" ? undefined : columns;
    if (table !== options.rootTable) return undefined;
    const rows = await on.rows(
      `SELECT column_name AS name, role FROM ${ledgerSchema(DUCKDB)}.columns
       WHERE bridge = $1 AND stream = $2 AND table_schema = $3 AND table_name = $4
       AND (is_key OR role IN ('row_id', 'state'))`,
      [options.bridge, options.stream, options.schema, table],
    );
    // what has no key is never known again
    if (rows.some(({ role }) => role === "row_id")) return undefined;
    const names = new Set(rows.map(({ name }) => String(name)));
    return withOwn(new Map([...columns].filter(([name]) => names.has(name))));
  }

  private async kept(on: SqlConnection, part: Part, columns: StandingColumns): Promise<TableFile> {
    const { options, table } = part;
    const name = `${KEPT}${options.schema}/${table}/${runText(options.run)}.parquet`;
    const path = await this.freePath(on, name, NONE_FREE);
    const aside = asideOf(path);
    const statement = parquetStatement(part.rows, columns, this.at(aside), part.groupRows);
    const written = await writeFile(on, statement, this.at(aside));
    if (written.rows !== part.count)
      throw new BridgeError("INTERNAL", `Of ${part.count} rows of ${table}, ${written.rows} were kept.`);
    return {
      ...entryOf(part, { path, aside, format: "parquet", day: undefined, columns }, written),
      isKept: true,
    };
  }

  private at(aside: string): string {
    return join(this.scratch, aside.slice(ASIDE.length));
  }

  /** A path that is no other file's; those that go with this commit are free. @throws BridgeError TABLE_NOT_OURS */
  private async freePath(on: SqlConnection, name: string, free: ReadonlySet<string>): Promise<string> {
    const taken = new Set((await filesOf(on)).map(({ path }) => path));
    for (let number = 1; ; number++) {
      const path = numbered(name, number);
      if (this.paths.has(path) || (taken.has(path) && !free.has(path))) continue;
      if (!taken.has(path) && !path.startsWith(KEPT) && (await this.store.has(path)))
        throw new BridgeError(
          "TABLE_NOT_OURS",
          `The file ${path} is there already, and it is not one of ours.`,
          {
            hint: "Move it away, or choose another name or folder.",
          },
        );
      this.paths.add(path);
      return path;
    }
  }
}

const keyOf = ({ bridge, stream, schema }: StreamPlace) => JSON.stringify([bridge, stream, schema]);

const tableKey = (of: StreamPlace, table: string) => `${keyOf(of)} ${table}`;

const NONE_FREE: ReadonlySet<string> = new Set();

const asideOf = (path: string) =>
  `${ASIDE}${randomBytes(8).toString("hex")}-${path.slice(path.lastIndexOf("/") + 1)}`;

function entryOf(
  { options, table, content }: Part,
  file: Pick<TableFile, "path" | "aside" | "format" | "day" | "columns">,
  written: Written,
): TableFile {
  const { bridge, stream, schema, run } = options;
  return { bridge, stream, schema, table, run, isKept: false, content, ...file, ...written };
}

const dayText = (column: string) => `coalesce(left(${quoteName(column)}::VARCHAR, 10), '${NO_DAY}')`;

async function daysOf(on: SqlConnection, rows: string, column: string): Promise<string[]> {
  const found = await on.rows(
    `SELECT DISTINCT ${dayText(column)} AS day FROM (SELECT * FROM ${rows}) ORDER BY day`,
  );
  // a table without rows is a file all the same
  return found.length === 0 ? [NO_DAY] : found.map((row) => String(row.day));
}
