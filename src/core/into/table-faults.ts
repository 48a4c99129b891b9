/** What keeps a stream from going into a table that stands, each with its remedy: known before anything is asked. */

import type { WriteMethod } from "../define/write-method.js";
import { BridgeError } from "../errors.js";
import { type ColumnType, formatColumnType } from "../shape/column-type.js";
import { formatPath, parsePath } from "../shape/naming.js";
import type { CompiledStream } from "../stream/compile-stream.js";
import type { ColumnMatch } from "./match-columns.js";
import { nameOfTable, sqlName, type UserColumn, type UserTable } from "./user-table.js";

/** A stream's table as a bridge names it, and what happens to its rows there. */
export interface IntoTable {
  /** default: the bridge's schema */
  readonly schema?: string | undefined;
  readonly table: string;
  /** columns by the path of the field that goes into each; the others go by their names */
  readonly columns: Readonly<Record<string, string>>;
  /** rows of records that the API tells to be gone are deleted; default: they stay */
  readonly removes: boolean;
}

/** Something that does not fit, and what to do about it. */
export interface TableFault {
  readonly fault: string;
  readonly remedy: string;
}

/** What is wrong where a table is not to be found. */
export const noTable = (schema: string, table: string): TableFault => ({
  fault: `there is no table ${schema}.${table}, or none that may be seen`,
  remedy: `Check the name; into: { schema: …, table: … } says where it is.`,
});

/** All that does not fit. */
export function tableFaults(
  stream: Pick<CompiledStream, "key" | "columns">,
  match: ColumnMatch,
  write: WriteMethod,
  removes: boolean,
): TableFault[] {
  const { table } = match;
  return [
    ...rights(table, write, removes),
    ...match.missing.map(({ path, column }) => ({
      fault: `it has no column ${column} for ${path}`,
      remedy: `Its columns: ${table.columns.map(({ name }) => name).join(", ")}.`,
    })),
    ...keyFaults(stream, match, write),
    ...filledByItself(stream, match),
    ...typeFaults(stream, match),
  ];
}

/** The error TABLE_MISMATCH that tells all of them. */
export function mismatch(
  stream: string,
  table: Pick<UserTable, "schema" | "name">,
  faults: readonly TableFault[],
): BridgeError {
  const numbered = (texts: readonly string[], end: string) =>
    texts.length === 1 ? texts[0]! : texts.map((text, i) => `(${i + 1}) ${text}`).join(end);
  const name = nameOfTable(table);
  const all = faults.map(({ fault }) => fault);
  const remedies = faults.map(({ remedy }) => remedy);
  const message = `Stream ${stream} does not go into ${name} as it stands: ${numbered(all, "; ")}.`;
  return new BridgeError("TABLE_MISMATCH", message, {
    where: { stream, table: name },
    hint: numbered(remedies, " "),
  });
}

const inSql = (table: UserTable) => `${sqlName(table, table.schema)}.${sqlName(table, table.name)}`;

/** What statements of each way of writing have to be allowed. */
const RIGHTS: Readonly<Record<string, readonly string[]>> = {
  upsert: ["SELECT", "INSERT", "UPDATE"],
  insert: ["SELECT", "INSERT"],
  update: ["SELECT", "UPDATE"],
  delete: ["SELECT", "DELETE"],
};

/** The rights that a way of writing needs. */
export function rightsFor(write: WriteMethod, removes: boolean): readonly string[] {
  return [...new Set([...(RIGHTS[write.mode] ?? []), ...(removes ? ["DELETE"] : [])])];
}

function rights(table: UserTable, write: WriteMethod, removes: boolean): TableFault[] {
  const lacking = rightsFor(write, removes).filter((right) => table.lacks.includes(right));
  return [
    ...(table.obstacle === undefined ? [] : [{ fault: table.obstacle, remedy: "Name a plain table." }]),
    ...(lacking.length === 0
      ? []
      : [
          {
            fault: `its owner has not granted ${lacking.join(", ")} on it`,
            remedy: `Have its owner run: GRANT ${lacking.join(", ")} ON ${inSql(table)} TO the warehouse's user.`,
          },
        ]),
  ];
}

function keyFaults(
  { key, columns }: Pick<CompiledStream, "key" | "columns">,
  match: ColumnMatch,
  write: WriteMethod,
): TableFault[] {
  if (key.length === 0) return [];
  const { table } = match;
  const own = key.map((parts) => ({
    path: formatPath(parts),
    column: match.columnOf(parts, columns.get(formatPath(parts))?.name),
  }));
  const faults = own.flatMap(({ path, column }): TableFault[] => {
    if (column === undefined && match.missing.some((each) => each.path === path)) return [];
    if (column === undefined)
      return [
        {
          fault: `it has no column for the key ${path}`,
          remedy: `Add one, with a unique index, or say which it is: into: { columns: { ${path}: … } }.`,
        },
      ];
    const isFilled = column.isGenerated && write.mode !== "update" && write.mode !== "delete";
    return isFilled
      ? [
          {
            fault: `${column.name} is filled by the warehouse itself, and the key ${path} is to go there`,
            remedy: `Let it go into a column of its own: into: { columns: { ${path}: … } }.`,
          },
        ]
      : [];
  });
  const names = own.flatMap(({ column }) => column?.name ?? []);
  const isUnique = table.uniqueKeys.some((unique) => unique.every((name) => names.includes(name)));
  if (names.length < own.length || isUnique) return faults;
  const list = names.map((name) => sqlName(table, name)).join(", ");
  return [
    ...faults,
    {
      fault: `no unique index is on ${names.join(", ")}, by which records are found again`,
      remedy: `Run: CREATE UNIQUE INDEX ${sqlName(table, [table.name, ...names].join("_"))} ON ${inSql(table)} (${list}).`,
    },
  ];
}

/** Columns that the bridge names a field for, and that the warehouse alone fills. */
function filledByItself({ key }: Pick<CompiledStream, "key">, match: ColumnMatch): TableFault[] {
  const keys = key.map(formatPath);
  return match.saidPaths.flatMap((path) => {
    const column = keys.includes(path) ? undefined : match.columnOf(parsePath(path)!);
    if (column?.isGenerated !== true) return [];
    const fault = `${column.name} is filled by the warehouse itself, and ${path} is to go there`;
    return { fault, remedy: `Take ${path} out of into.columns.` };
  });
}

/** Types that are declared and that a column does not hold, whatever comes. */
function typeFaults({ columns }: Pick<CompiledStream, "columns">, match: ColumnMatch): TableFault[] {
  return [...columns].flatMap(([path, { type, name, skip }]) => {
    const parts = parsePath(path);
    if (type === undefined || skip === true || parts === undefined) return [];
    const column = match.columnOf(parts, name);
    if (column === undefined || takes(column, type)) return [];
    return {
      fault: `${path} is declared ${formatColumnType(type)}, and ${column.name} is ${column.words}`,
      remedy: `Declare ${path} as ${formatColumnType(column.takes)}, and what does not fit goes to quarantine; or widen ${column.name}.`,
    };
  });
}

/** Whether every value of a type goes into a column but for its bounds, which are checked value by value. */
function takes({ takes: own, isForeign }: UserColumn, type: ColumnType): boolean {
  if (isForeign === true || own.kind === type.kind) return isForeign === true || isWideEnough(own, type);
  switch (own.kind) {
    case "text":
      return true;
    case "json":
      return false;
    case "decimal":
      return type.kind === "int64" && own.precision - own.scale >= 19;
    case "float64":
      return false;
    case "timestamp":
      return type.kind === "local_timestamp" || type.kind === "date";
    case "local_timestamp":
      return type.kind === "date";
    default:
      return false;
  }
}

function isWideEnough(own: ColumnType, type: ColumnType): boolean {
  if (own.kind !== "decimal" || type.kind !== "decimal") return true;
  return own.scale >= type.scale && own.precision - own.scale >= type.precision - type.scale;
}
