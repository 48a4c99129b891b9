/** Where a stream's parts come from: lists, files, other streams, other requests; and the values of `lists`. */

import { compileAnswer, readAnswer } from "../../core/ask/answer.js";
import { compileJsonPath } from "../../core/ask/json-path.js";
import { type Part, partOf, partValues, WHOLE_STREAM } from "../../core/ask/parts.js";
import type { Scalar, TemplateValues } from "../../core/ask/template.js";
import { type CompiledRequest, fieldParts } from "../../core/define/compile-stream.js";
import { BridgeError } from "../../core/errors.js";
import { getByPath } from "../../core/shape/path-get.js";
import type { Asker } from "./asker.js";
import { pageSeries } from "./page-series.js";

/** Reads all records of another stream, part by part. */
export type ReadParent = (
  asker: Asker,
) => AsyncIterable<{ readonly part: Part; readonly records: readonly unknown[] }>;

/** The values that `lists` fetches first, by name. */
export async function fetchLists(asker: Asker): Promise<TemplateValues> {
  const lists: Record<string, Scalar | readonly Scalar[]> = {};
  for (const [name, definition] of Object.entries(asker.stream.definition.lists)) {
    const request = asker.stream.lists.get(name)!;
    const values = partValues(await fetchValues(asker, request, asker.baseValues()), name, asker.where());
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

/** The parts of a stream, in a stable order; a stream without `each` is one part. */
export async function fetchParts(
  asker: Asker,
  lists: TemplateValues,
  readParent: ReadParent,
): Promise<Part[]> {
  const { each } = asker.stream.definition;
  if (each === undefined) return [WHOLE_STREAM];
  let parts: Part[] = [WHOLE_STREAM];
  for (const [name, source] of Object.entries(each)) {
    if (!Array.isArray(source) && "stream" in source) {
      parts = cross(parts, await parentParts(asker, name, source, readParent));
      continue;
    }
    // the same for every part, unless its request asks for their values
    const shared =
      Array.isArray(source) || "file" in source ? await ownValues(asker, name, source) : undefined;
    const nested: Part[] = [];
    for (const part of parts) {
      const values =
        shared ??
        (await requestedValues(asker, name, asker.stream.parts.get(name)!, {
          ...asker.baseValues(),
          ...lists,
          ...part.values,
        }));
      nested.push(...values.map((value) => partOf({ ...part.values, [name]: value })));
    }
    parts = nested;
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
  return partValues("file" in source ? await fileValues(asker, source) : source, name, asker.where());
}

async function requestedValues(
  asker: Asker,
  name: string,
  request: CompiledRequest,
  values: TemplateValues,
): Promise<Scalar[]> {
  return partValues(await fetchValues(asker, request, values), name, asker.where());
}

async function fetchValues(
  asker: Asker,
  request: CompiledRequest,
  values: TemplateValues,
): Promise<unknown[]> {
  const found: unknown[] = [];
  for await (const { page } of pageSeries(asker, request, { part: WHOLE_STREAM, values }))
    found.push(...page.records);
  return found;
}

/** The field's values in the other stream's records, each with the values of the part that it was found in. */
async function parentParts(
  asker: Asker,
  name: string,
  source: { stream: string; field: string },
  readParent: ReadParent,
): Promise<Part[]> {
  const parts = new Map<string, Part>();
  const path = fieldParts(source.field);
  for await (const { part, records } of readParent(asker.forStream(source.stream))) {
    const found = records.map((record) => getByPath(record, path));
    for (const value of partValues(found, name, asker.where())) {
      const one = partOf({ ...part.values, [name]: value });
      parts.set(one.key, one);
    }
  }
  return [...parts.values()];
}

async function fileValues(
  asker: Asker,
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
  const answer = kind === "csv" ? "csv" : kind === "jsonl" ? "json_lines" : "json";
  const records = readAnswer(bytes, compileAnswer(answer, []), where).flatMap(
    (tree) => compileJsonPath("$[*]").all(tree) ?? [],
  );
  if (field === undefined)
    return records.map((record) => (isObject(record) ? Object.values(record)[0] : record));
  return records.map((record) => getByPath(record, fieldParts(field)));
}

function isObject(value: unknown): value is object {
  return typeof value === "object" && value !== null;
}
