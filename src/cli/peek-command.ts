/** `peek`: a sample of a stream: how full and how varied its fields are, the tables it becomes, what rules decide. */

import { readFile, writeFile } from "node:fs/promises";
import colors from "picocolors";
import * as z from "zod";
import { checkValue, parseYaml } from "../core/define/check.js";
import { BridgeError } from "../core/errors.js";
import type { FieldStats } from "../core/sample/field-stats.js";
import type { SampleTable } from "../core/sample/look.js";
import { parseExactJson, stringifyExact } from "../core/shape/exact-json.js";
import { openProject } from "../node/project.js";
import { type Peek, peek, type Sample } from "../run/peek.js";
import { EXIT_CODES } from "./exit-codes.js";
import { clipped, countOf, countText } from "./format.js";
import { jsonLine } from "./json-lines.js";
import { plainNumbers, prettyJson } from "./pretty-json.js";
import { tableText } from "./table.js";

export interface PeekCommandOptions {
  readonly project: string;
  readonly records?: number | undefined;
  readonly where?: string | undefined;
  /** a map in YAML */
  readonly columns?: string | undefined;
  readonly save?: string | undefined;
  readonly sample?: string | undefined;
  readonly json?: boolean | undefined;
}

export async function peekCommand(
  account: string,
  stream: string,
  options: PeekCommandOptions,
): Promise<number> {
  const project = await openProject(options.project);
  const sample = options.sample === undefined ? undefined : await readSample(options.sample, stream);
  const api = await project.openAccount(account);
  try {
    const { records, where, save } = options;
    const columns = options.columns === undefined ? undefined : columnsOf(options.columns);
    const seen = await peek({ api, stream, records, where, columns, sample });
    if (save !== undefined) await keepSample(save, seen.sample);
    if (options.json === true) tellLines(seen);
    else say(peekText(seen, account));
    if (save !== undefined && options.json !== true)
      say(
        colors.dim(
          `\nKept in ${save}. Look again, with no network: early-bridge peek ${account} ${stream} --sample ${save}`,
        ),
      );
    return EXIT_CODES.done;
  } finally {
    await api.close();
  }
}

function columnsOf(text: string): Readonly<Record<string, object>> {
  const file = parseYaml(text, "--columns");
  return checkValue(z.record(z.string(), z.looseObject({})), file.value, file);
}

const sampleSchema = z.object({
  connector: z.string(),
  account: z.string(),
  stream: z.string(),
  takenAt: z.string(),
  places: z.array(
    z.object({
      place: z.enum(["first", "middle", "last"]),
      of: z.string().optional(),
      records: z.number(),
    }),
  ),
  total: z.number().optional(),
  records: z.array(z.unknown()),
});

async function readSample(path: string, stream: string): Promise<Sample> {
  const text = await readFile(path, "utf8").catch((cause: Error) => {
    throw new BridgeError("FILE_UNREADABLE", `The sample ${path} cannot be read: ${cause.message}.`, {
      cause,
    });
  });
  const none = (cause?: unknown) =>
    new BridgeError("CONFIG_INVALID", `${path} is no sample that peek --save has written.`, { cause });
  let tree: unknown;
  try {
    tree = parseExactJson(text);
  } catch (cause) {
    throw none(cause);
  }
  const read = sampleSchema.safeParse(tree);
  if (!read.success) throw none(read.error);
  const { places, total, ...rest } = read.data;
  if (rest.stream !== stream)
    throw new BridgeError("CONFIG_INVALID", `${path} is a sample of ${rest.stream}, not of ${stream}.`);
  return { ...rest, total, places: places.map((each) => ({ ...each, of: each.of })) };
}

async function keepSample(path: string, sample: Sample): Promise<void> {
  const { records, ...head } = sample;
  const lines = records.map((record) => `\n  ${stringifyExact(record)}`).join(",");
  const text = `${JSON.stringify(head).slice(0, -1)},"records":[${lines}\n]}\n`;
  await writeFile(path, text, { flag: "wx", mode: 0o600 }).catch((cause: NodeJS.ErrnoException) => {
    const message =
      cause.code === "EEXIST" ? `${path} is there already.` : `${path} cannot be written: ${cause.message}.`;
    throw new BridgeError("FILE_UNWRITABLE", message, { hint: "Name another file.", cause });
  });
}

/** So many rows, records and decisions are shown; `--json` has all. */
const SHOWN = 3;
const SHOWN_DECISIONS = 5;
const RAW_LINES = 40;

function peekText(seen: Peek, account: string): string {
  const { sample, tables, quarantined, decisions, requests, records } = seen;
  if (records.length === 0)
    return `${colors.bold(sample.stream)} of ${account}: no record came (${countOf(requests, "request")}).`;
  const total = sample.total === undefined ? "" : ` of ${countText(sample.total)}`;
  const parts = [
    `${colors.bold(sample.stream)} of ${account}: ${countText(records.length)}${total} records, ${placesText(sample)} (${countOf(requests, "request")})`,
    fieldsText(seen.fields),
    ...tables.map(tableOf),
    rawText(records[0]),
    ...(quarantined.length === 0 ? [] : [quarantineText(seen)]),
    ...(decisions.length === 0 ? [] : [decisionsText(seen)]),
  ];
  return parts.join("\n\n");
}

function placesText({ places }: Sample): string {
  const [only] = places;
  if (places.length === 1 && only?.of === undefined) return "the first ones";
  const words = places.map(
    ({ place, of, records }) => `${countText(records)} ${of === undefined ? place : `of ${of}`}`,
  );
  return words.join(places.some(({ of }) => of !== undefined) ? "; " : ", ");
}

function fieldsText(fields: readonly FieldStats[]): string {
  const columns = [
    { title: "field" },
    { title: "filled", right: true },
    { title: "types" },
    { title: "distinct", right: true, leaves: 3 },
    { title: "least … greatest", leaves: 2 },
    { title: "most frequent, or one of them", leaves: 1 },
  ];
  const rows = fields.map((field) => {
    const { path, of, filled, distinct, isCapped, least, greatest, frequent, example, longest } = field;
    const [low, high] = [least, greatest].map((value) => clipped(cellText(value), 24));
    const range = low === high ? low! : `${low} … ${high}`;
    const often = frequent
      .slice(0, 2)
      .map(({ value, times }) => `${clipped(cellText(value), 24)} ×${times}`)
      .join(", ");
    const long = longest !== undefined && longest > 200 ? ` (up to ${countText(longest)} signs)` : "";
    return [
      path,
      `${of === 0 ? 0 : Math.floor((filled / of) * 100)} %`,
      typesText(field) + long,
      filled === 0 || example === undefined ? "" : `${countText(distinct)}${isCapped ? "+" : ""}`,
      range,
      often === "" ? clipped(cellText(example), 40) : often,
    ];
  });
  return `${colors.bold("Fields")}\n${tableText(columns, rows)}`;
}

function typesText({ types, filled }: FieldStats): string {
  const all = Object.entries(types);
  const shares = all.map(([type, times]) => {
    const share = all.length === 1 ? "" : ` ${Math.round((times / filled) * 100)} %`;
    return `${type === "number_text" ? "number in quotes" : type}${share}`;
  });
  return shares.length === 0 ? colors.dim("nothing") : shares.join(", ");
}

/** A table on its side: a line for each column, its first rows beside each other. */
function tableOf({ name, columns, rows }: SampleTable): string {
  const shown = rows.slice(0, SHOWN);
  const titles = [
    { title: "column" },
    { title: "type" },
    ...shown.map((_, i) => ({ title: `row ${i + 1}`, ...(i === 0 ? {} : { leaves: SHOWN - i }) })),
  ];
  const cells = columns.map((column) => [
    column.name,
    column.declared ? column.type : colors.dim(column.type),
    ...shown.map((row) => clipped(cellText(row[column.name]), 28)),
  ]);
  return `${colors.bold(`Table ${name}`)}, ${countOf(rows.length, "row")}\n${tableText(titles, cells)}`;
}

function rawText(record: unknown): string {
  const lines = prettyJson(record).split("\n");
  const shown = lines.slice(0, RAW_LINES).map((line) => `  ${clipped(line, 116)}`);
  const more =
    lines.length > RAW_LINES ? [colors.dim(`  … ${lines.length - RAW_LINES} more lines: --json`)] : [];
  return [colors.bold("The first record as it came"), ...shown, ...more].join("\n");
}

function quarantineText({ quarantined }: Peek): string {
  const shown = quarantined.slice(0, SHOWN_DECISIONS).map(({ message }) => `  ${message}`);
  return [colors.yellow(`${countText(quarantined.length)} would go to quarantine`), ...shown].join("\n");
}

function decisionsText({ decisions, leftOut }: Peek): string {
  const kept = decisions.filter(({ holds }) => holds === true);
  const others = decisions.filter(({ holds }) => holds !== true);
  const line = ({ key, record, part, values, holds }: Peek["decisions"][number]) => {
    const name = key.length === 0 ? `record ${record + 1}` : key.map(cellText).join(", ");
    const seen = values.map(
      ({ field, value }) => `${field} is ${value === undefined ? "not there" : cellText(value)}`,
    );
    return [name, holds === undefined ? "cannot be judged" : "", part, clipped(seen.join(", "), 60)];
  };
  const list = (of: typeof decisions) =>
    tableText(
      [{ title: "key" }, { title: "" }, { title: "decided by" }, { title: "which" }],
      of.slice(0, SHOWN_DECISIONS).map(line),
    );
  return [
    colors.bold(`where keeps ${countText(kept.length)}, and leaves out ${countText(leftOut)}`),
    ...(kept.length === 0 ? [] : [`kept\n${list(kept)}`]),
    ...(others.length === 0 ? [] : [`not kept\n${list(others)}`]),
  ].join("\n");
}

function cellText(value: unknown): string {
  if (value === null || value === undefined) return "";
  if (value === "") return '""';
  return typeof value === "string"
    ? JSON.stringify(value).slice(1, -1).replaceAll('\\"', '"')
    : stringifyExact(value);
}

function tellLines({
  sample,
  requests,
  tables,
  fields,
  quarantined,
  decisions,
  leftOut,
  records,
}: Peek): void {
  const { account, stream, places, total, takenAt } = sample;
  const line = (type: string, content: object) =>
    process.stdout.write(jsonLine(type, { account, stream, ...(plainNumbers(content) as object) }));
  line("sample", {
    places,
    total,
    takenAt,
    requests,
    records: records.length,
    quarantined: quarantined.length,
    leftOut,
  });
  for (const field of fields) line("field", field);
  for (const table of tables) line("sample_table", table);
  for (const each of decisions) line("decision", each);
  for (const each of quarantined) line("misfit", each);
  for (const record of records) line("record", { record });
}

function say(text: string): void {
  process.stdout.write(`${text}\n`);
}
