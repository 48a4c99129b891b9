/** Quarantine in the ledger: records that did not fit, each once, until somebody settles them. */

import { hashText } from "../../core/shape/concealed-values.js";
import { formatInstant } from "../../core/shape/date-time.js";
import { parseExactJson, stringifyExact } from "../../core/shape/exact-json.js";
import type { Issue } from "../../core/shape/shaped.js";
import type {
  LoadOptions,
  Quarantined,
  QuarantineFault,
  QuarantineFilter,
  Settled,
  StreamPlace,
} from "../warehouse.js";
import type { SqlCell, SqlConnection, SqlDialect, SqlRow, SqlValue } from "./dialect.js";
import { textOrNothing, timestamp } from "./ledger-rows.js";
import { ledgerSchema } from "./ledger-schema.js";

const tableOf = (sql: SqlDialect) => `${ledgerSchema(sql)}.quarantine`;

/** How much of the quarantine is in memory at once, in signs of records; tests make it small. */
export const QUARANTINE_SIZES = {
  /** waiting for their checkpoint; one that is longer waits, too, and no other beside it */
  waiting: 8 * 1024 * 1024,
  /** read at once, about */
  read: 4 * 1024 * 1024,
};

/** What a record takes beside its own text, in signs. */
const SIGNS_BESIDE = 300;

/** A record that did not fit, as text: as an object it would take several times the room. */
interface Misfit extends Omit<Issue, "record"> {
  readonly text: string;
}

/** Records that did not fit, while they wait for their checkpoint: each once, the last that was said of one counts. */
export class Misfits {
  private readonly byId = new Map<string, Misfit>();
  private signs = 0;

  get count(): number {
    return this.byId.size;
  }

  /** Whether no more should be held. */
  get isFull(): boolean {
    return this.signs >= QUARANTINE_SIZES.waiting;
  }

  add({ record, ...said }: Issue): void {
    const text = stringifyExact(record);
    const id = hashText(text).slice(0, 12);
    // one that comes again is the last one
    if (!this.byId.delete(id)) this.signs += text.length + SIGNS_BESIDE;
    this.byId.set(id, { ...said, text });
  }

  /** As rows of the ledger, a µs apart: they are tried again in the order in which they came. */
  rows(
    { run, bridge, stream }: { readonly run: number; readonly bridge: string; readonly stream: string },
    fromMicros: number,
  ): (readonly SqlCell[])[] {
    const open = [null, null, null, null] as const;
    return [...this.byId].map(([id, { reason, path, message, text, page }], i) => {
      const at = formatInstant(fromMicros + i);
      return [run, bridge, stream, reason, path, message, text, at, id, page ?? null, ...open];
    });
  }
}

/** A moment in µs behind all that a run has put into quarantine before, whatever the clock says. */
export async function behindThoseOf(
  sql: SqlDialect,
  connection: SqlConnection,
  { run, bridge, stream }: Pick<LoadOptions, "run" | "bridge" | "stream">,
  atMs: number,
): Promise<number> {
  const [last] = await connection.rows(
    `SELECT ${sql.ledger.epochMicros("max(quarantined_at)")} AS at FROM ${tableOf(sql)}
     WHERE run = $1 AND bridge = $2 AND stream = $3`,
    [BigInt(run), bridge, stream],
  );
  return Math.max(atMs * 1000, Number(last?.at ?? -1) + 1);
}

/** Takes away what is open of the same records; what was discarded before does not come back. */
export async function withoutKnown(
  sql: SqlDialect,
  connection: SqlConnection,
  { bridge, stream }: Pick<StreamPlace, "bridge" | "stream">,
  rows: readonly (readonly SqlCell[])[],
): Promise<(readonly SqlCell[])[]> {
  if (rows.length === 0) return [];
  const ids = JSON.stringify(rows.map((row) => row[8]));
  const same = `bridge = $1 AND stream = $2 AND id IN (SELECT item FROM (${sql.ledger.textsOf("$3")}) AS given)`;
  await connection.run(`DELETE FROM ${tableOf(sql)} WHERE ${same} AND settled IS NULL`, [
    bridge,
    stream,
    ids,
  ]);
  const discarded = await connection.rows(
    `SELECT id FROM ${tableOf(sql)} WHERE ${same} AND settled = 'discarded'`,
    [bridge, stream, ids],
  );
  const known = new Set(discarded.map(({ id }) => id));
  return rows.filter((row) => !known.has(row[8] as string));
}

/** Asks the ledger, in its turn. */
type Read = (query: string, values: readonly SqlValue[]) => Promise<readonly SqlRow[]>;

/** The conditions of a filter, and their values. */
function openOnes({ bridge, stream, run, reason, path, id }: QuarantineFilter) {
  const wanted = { bridge, stream, run: run === undefined ? undefined : BigInt(run), reason, path, id };
  const said = Object.entries(wanted).flatMap(([name, value]) =>
    value === undefined ? [] : [{ name, value }],
  );
  const conditions = ["settled IS NULL", ...said.map(({ name }, i) => `${name} = $${i + 1}`)].join(" AND ");
  return { conditions, values: said.map(({ value }) => value) };
}

/** What is wrong with open records, by stream and run. */
export async function openFaults(
  sql: SqlDialect,
  read: Read,
  filter: QuarantineFilter,
): Promise<QuarantineFault[]> {
  const { conditions, values } = openOnes(filter);
  const { epochMicros, firstOf } = sql.ledger;
  const latest = "quarantined_at DESC, id DESC";
  const rows = await read(
    `SELECT bridge, stream, run, reason, path, count(*) AS records, ${epochMicros("max(quarantined_at)")} AS at,
      ${firstOf("id", latest)} AS id, ${firstOf("message", latest)} AS message
     FROM ${tableOf(sql)} WHERE ${conditions}
     GROUP BY bridge, stream, run, reason, path ORDER BY bridge, stream, run, reason, path`,
    values,
  );
  return rows.map((row) => ({ ...placeOf(row), records: Number(row.records) }));
}

/** So many records are read at first, before it is known how long they are, and later ones at most. */
const FIRST_PAGE = 100;
const MOST_OF_PAGE = 5000;

/** Open records of a stream, oldest first, some at a time. */
export async function* openRecords(
  sql: SqlDialect,
  read: Read,
  filter: QuarantineFilter & { readonly stream: string },
): AsyncGenerator<readonly Quarantined[]> {
  const { conditions, values } = openOnes(filter);
  const at = sql.ledger.epochMicros("quarantined_at");
  const [time, id] = [`$${values.length + 1}`, `$${values.length + 2}`];
  const later = `(${at} > ${time} OR (${at} = ${time} AND id > ${id}))`;
  let most = FIRST_PAGE;
  let last: { readonly at: bigint; readonly id: string } | undefined;
  do {
    const rows = await read(
      `SELECT run, bridge, stream, reason, path, message, record, ${at} AS at, id, page FROM ${tableOf(sql)}
       WHERE ${conditions}${last === undefined ? "" : ` AND ${later}`} ORDER BY quarantined_at, id LIMIT ${most}`,
      last === undefined ? values : [...values, last.at, last.id],
    );
    if (rows.length > 0) yield rows.map(quarantinedOf);
    const end = rows.length < most ? undefined : rows.at(-1);
    last = end && { at: BigInt(Number(end.at)), id: String(end.id) };
    const signs = rows.reduce((sum, { record }) => sum + String(record).length + SIGNS_BESIDE, 0);
    most = Math.max(1, Math.min(MOST_OF_PAGE, Math.floor((QUARANTINE_SIZES.read * rows.length) / signs)));
  } while (last !== undefined);
}

/** The query for one of a bridge's stream, whichever. */
export const anyOpenQuery = (sql: SqlDialect) =>
  `SELECT 1 AS one FROM ${tableOf(sql)} WHERE settled IS NULL AND bridge = $1 AND stream = $2 LIMIT 1`;

function quarantinedOf(row: SqlRow): Quarantined {
  const page = row.page === null || row.page === undefined ? undefined : Number(row.page);
  return { ...placeOf(row), record: parseExactJson(String(row.record)), page };
}

/** What the ledger says of a record beside what it is. */
function placeOf(row: SqlRow): Omit<Quarantined, "record" | "page"> {
  return {
    id: String(row.id),
    run: Number(row.run),
    bridge: String(row.bridge),
    stream: String(row.stream),
    reason: String(row.reason) as Issue["reason"],
    path: textOrNothing(row.path) ?? "",
    message: String(row.message),
    quarantinedAtMs: Math.floor(Number(row.at) / 1000),
  };
}

/** Notes what became of open records. */
export async function settle(
  sql: SqlDialect,
  connection: SqlConnection,
  { bridge, stream }: Pick<StreamPlace, "bridge" | "stream">,
  { ids, how, why, run }: Settled,
  atMs: number,
): Promise<void> {
  for (let from = 0; from < ids.length; from += IDS_AT_ONCE)
    await connection.run(
      `UPDATE ${tableOf(sql)} SET settled = $1, settled_at = ${sql.ledger.moment("$2")}, settled_run = $3, why = $4
       WHERE bridge = $5 AND stream = $6 AND settled IS NULL
         AND id IN (SELECT item FROM (${sql.ledger.textsOf("$7")}) AS given)`,
      [
        ...[how, timestamp(atMs), numberOrNull(run), why ?? null, bridge, stream],
        JSON.stringify(ids.slice(from, from + IDS_AT_ONCE)),
      ],
    );
}

/** What a server takes in one statement has an end. */
const IDS_AT_ONCE = 100_000;

const numberOrNull = (value: number | undefined) => (value === undefined ? null : BigInt(value));
