/** How a stream will go into a table that stands already, and what does not fit. */

import type { WriteMode } from "../core/define/project-schema.js";
import { WRITE_METHODS } from "../core/define/write-method.js";
import { ColumnMatch } from "../core/into/match-columns.js";
import { type IntoTable, noTable, type TableFault, tableFaults } from "../core/into/table-faults.js";
import { nameOfTable, type UserTable } from "../core/into/user-table.js";
import { formatPath, parsePath } from "../core/shape/naming.js";
import type { CompiledStream } from "../core/stream/compile-stream.js";
import type { Described } from "../core/stream/describe-stream.js";

/** What each way of writing does to rows there. */
const DOES: Readonly<Partial<Record<WriteMode, string>>> = {
  upsert: "rows are inserted, or updated where their key stands",
  insert: "rows are inserted whose key does not stand; those that do stay as they are",
  update: "rows are updated whose key stands; no others are inserted",
  delete: "rows are deleted whose key comes",
};

export function planInto(
  stream: CompiledStream,
  into: IntoTable & { readonly schema: string; readonly name: string },
  table: UserTable | undefined,
  write: WriteMode,
): Described {
  if (table === undefined) return { lines: [], warnings: [warning(noTable(into.schema, into.name))] };
  const match = new ColumnMatch(table, into.columns);
  const faults = tableFaults(stream, match, WRITE_METHODS[write], into.removes);
  const columns = knownColumns(stream, match);
  const gone = into.removes ? "deleted" : "left as they are";
  const lines = [
    { label: "into", text: `${nameOfTable(table)} as it stands: ${DOES[write]}` },
    { label: "columns", text: `${columns}; other fields go where a column has their name` },
    ...(write === "delete" || stream.isRemoval === undefined
      ? []
      : [{ label: "gone", text: `rows of records that the API tells to be gone are ${gone}` }]),
  ];
  const notSwept =
    stream.sweep === undefined
      ? []
      : ["The stream is not swept: rows that the API does not know may be somebody else's."];
  return { lines, warnings: [...faults.map(warning), ...notSwept] };
}

/** Which column each field goes into that is known before anything is asked. */
function knownColumns({ key, columns }: CompiledStream, match: ColumnMatch): string {
  const paths = [...new Set([...key.map(formatPath), ...match.saidPaths, ...columns.keys()])];
  const pairs = paths.flatMap((path) => {
    const rule = columns.get(path);
    const column = rule?.skip === true ? undefined : match.columnOf(parsePath(path) ?? [path], rule?.name);
    return column === undefined ? [] : [path === column.name ? path : `${path} → ${column.name}`];
  });
  return pairs.join(", ");
}

const warning = ({ fault, remedy }: TableFault) => `A run stops: ${fault}. ${remedy}`;
