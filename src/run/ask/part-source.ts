/** Where a stream's parts come from: lists, files, other streams, other requests; and the values of `lists`. */

import pLimit, { type LimitFunction } from "p-limit";
import { type Part, partOf, partValues, WHOLE_STREAM } from "../../core/ask/parts.js";
import { chooseDecoder } from "../../core/decode/choose-decoder.js";
import { BridgeError, type Where } from "../../core/errors.js";
import { compileJsonPath } from "../../core/language/json-path.js";
import type { Scalar, TemplateValues } from "../../core/language/template.js";
import { fieldParts } from "../../core/shape/naming.js";
import { getByPath } from "../../core/shape/path-get.js";
import type { CompiledValues } from "../../core/stream/compile-stream.js";
import type { Asker } from "./asker.js";
import { keyRanges } from "./key-ranges.js";
import { pageSeries } from "./page-series.js";

/** Another stream, to be read whole: its parts, and all records of each. */
export type OpenParent = (asker: Asker) => {
  parts(): Promise<readonly Part[]>;
  pagesOf(part: Part): AsyncIterable<{ readonly records: readonly unknown[] }>;
};

/** The values that `lists` fetches first, by name. */
export async function fetchLists(asker: Asker): Promise<TemplateValues> {
  const lists: Record<string, Scalar | readonly Scalar[]> = {};
  for (const [name, definition] of Object.entries(asker.stream.definition.lists)) {
    const source = asker.stream.lists.get(name)!;
    const found = await fetchValues(asker, source, `lists.${name}`, asker.baseValues());
    const values = partValues(found, name, asker.where());
    if (values.length === 0) {
      const message = `The list ${name} has no values: nothing is at ${definition.values}.`;
      throw new BridgeError("RECORDS_NOT_FOUND", message, {
        where: asker.where(),
        hint: `Correct lists.${name}.values.`,
      });
    }
    lists[name] = definition.join === undefined ? values : values.join(definition.join);
  }
  return lists;
}

/** The parts of a stream, in a stable order; a stream without `each` is one part. `known`: keys of earlier parts. */
export async function fetchParts(
  asker: Asker,
  lists: TemplateValues,
  openParent: OpenParent,
  known: readonly string[],
): Promise<Part[]> {
  const { each } = asker.stream.definition;
  if (each === undefined) return [WHOLE_STREAM];
  // the pace lets no more go than the API permits
  const atOnce = pLimit(asker.shared.connector.api.rate_limit.concurrency);
  let parts: Part[] = [WHOLE_STREAM];
  for (const [name, source] of Object.entries(each)) {
    if (!Array.isArray(source) && "stream" in source) {
      parts = cross(parts, await parentParts(asker, name, source, openParent, atOnce));
      continue;
    }
    if (!Array.isArray(source) && "ranges" in source) {
      const values = { ...asker.baseValues(), ...lists };
      parts = cross(parts, await keyRanges(asker, name, source.ranges, values, known));
      continue;
    }
    // the same for every part, unless its request asks for their values
    const shared =
      Array.isArray(source) || "file" in source ? await ownValues(asker, name, source) : undefined;
    const valuesFor = (part: Part) =>
      requestedValues(asker, name, asker.stream.parts.get(name)!, {
        ...asker.baseValues(),
        ...lists,
        ...part.values,
      });
    const nested = await Promise.all(
      parts.map(async (part) => {
        const values = shared ?? (await atOnce(() => valuesFor(part)));
        return values.map((value) => partOf({ ...part.values, [name]: value }));
      }),
    );
    parts = nested.flat();
  }
  return parts;
}

function cross(parts: readonly Part[], others: readonly Part[]): Part[] {
  return parts.flatMap((part) => others.map((other) => partOf({ ...part.values, ...other.values })));
}

async function ownValues(
  asker: Asker,
  name: string,
  source: readonly Scalar[] | { file: string; field?: string | undefined },
) {
  return partValues("file" in source ? await fileValues(asker, name, source) : source, name, asker.where());
}

async function requestedValues(
  asker: Asker,
  name: string,
  source: CompiledValues,
  values: TemplateValues,
): Promise<Scalar[]> {
  return partValues(await fetchValues(asker, source, `each.${name}`, values), name, asker.where());
}

async function fetchValues(
  asker: Asker,
  { request, field }: CompiledValues,
  key: string,
  values: TemplateValues,
): Promise<unknown[]> {
  const found: unknown[] = [];
  for await (const { records } of pageSeries(asker, request, { part: WHOLE_STREAM, values }))
    found.push(...records);
  if (field === undefined) return found;
  const reader = fieldReader(field.text, field.first);
  const read = found.map(reader.read);
  reader.check(`${key}.values`, "the response", asker.where());
  return read;
}

/** The field's values in the other stream's records, each with the values of the part that it was found in. */
async function parentParts(
  asker: Asker,
  name: string,
  source: { stream: string; field: string },
  openParent: OpenParent,
  atOnce: LimitFunction,
): Promise<Part[]> {
  const field = fieldReader(source.field);
  const parent = openParent(await asker.forStream(source.stream));
  const partsIn = async (part: Part) => {
    const found: Part[] = [];
    for await (const { records } of parent.pagesOf(part))
      for (const value of partValues(records.map(field.read), name, asker.where()))
        found.push(partOf({ ...part.values, [name]: value }));
    return found;
  };
  const found = await Promise.all((await parent.parts()).map((part) => atOnce(() => partsIn(part))));
  const parts = new Map(found.flat().map((part) => [part.key, part]));
  field.check(`each.${name}.field`, `the stream ${source.stream}`, asker.where());
  return [...parts.values()];
}

/** Reads a field of records. One that no record has is a slip of the pen, and would leave nothing to ask for. */
function fieldReader(field: string, readField = readerOf(fieldParts(field))) {
  const names = new Set<string>();
  let found = false;
  return {
    read(record: unknown): unknown {
      const value = readField(record);
      if (value !== undefined) found = true;
      else if (!found && isObject(record)) for (const name of Object.keys(record)) names.add(name);
      return value;
    },
    /** @throws BridgeError PART_INVALID */
    check(key: string, source: string, where: Where): void {
      if (found || names.size === 0) return;
      throw new BridgeError("PART_INVALID", `No record of ${source} has the field ${field}.`, {
        where,
        hint: `Correct ${key}. The records have: ${[...names].slice(0, 20).join(", ")}.`,
      });
    },
  };
}

function readerOf(path: readonly string[]): (record: unknown) => unknown {
  return (record) => getByPath(record, path);
}

async function fileValues(
  asker: Asker,
  name: string,
  { file, field }: { file: string; field?: string | undefined },
): Promise<unknown[]> {
  const where = { ...asker.where(), file };
  let bytes: Uint8Array;
  try {
    bytes = await asker.shared.readFile(file);
  } catch (cause) {
    throw new BridgeError(
      "FILE_UNREADABLE",
      `The file ${file} cannot be read: ${(cause as Error).message}.`,
      { where, cause },
    );
  }
  const kind = /\.(csv|json|jsonl|txt)$/i.exec(file)?.[1]?.toLowerCase();
  if (kind === "txt" || kind === undefined)
    return new TextDecoder()
      .decode(bytes)
      .split(/\r?\n/)
      .map((line) => line.trim());
  const form = kind === "csv" ? "csv" : kind === "jsonl" ? "json_lines" : "json";
  const records = chooseDecoder(form, [])
    .decode(bytes, where)
    .flatMap((tree) => compileJsonPath("$[*]").all(tree) ?? []);
  if (field === undefined)
    return records.map((record) => (isObject(record) ? Object.values(record)[0] : record));
  const reader = fieldReader(field);
  const values = records.map(reader.read);
  reader.check(`each.${name}.field`, `the file ${file}`, asker.where());
  return values;
}

function isObject(value: unknown): value is object {
  return typeof value === "object" && value !== null;
}
