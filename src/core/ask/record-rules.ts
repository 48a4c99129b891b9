/** Rules over the records of a page, before they become rows: fields added and worked out, records left out. */

import { isBridgeError } from "../errors.js";
import {
  type ByteRecords,
  type PageScan,
  type RecordNews,
  someOf,
  wholeRecord,
} from "../express/byte-records.js";
import type { Keeps } from "../express/outline.js";
import type { Condition } from "../language/condition.js";
import { fillValue, type TemplateValues } from "../language/template.js";
import { isPlainObject, stringifyExact } from "../shape/exact-json.js";
import type { Issue } from "../shape/shaped.js";
import { type PageRead, pageFrom, withRecords } from "./read-page.js";

/** A field that is worked out from its record. */
export interface ComputedField {
  readonly name: string;
  /** fields of the record that it looks at; undefined: it may look at any */
  readonly fields?: readonly string[] | undefined;
  readonly value: (record: Readonly<Record<string, unknown>>) => unknown;
}

/** What is to be done with records before they are shaped; it differs from part to part. */
export interface RecordRules {
  readonly where?: Condition | undefined;
  readonly keep?: ((record: Readonly<Record<string, unknown>>) => boolean) | undefined;
  readonly add: Readonly<Record<string, unknown>>;
  /** fields worked out from each record; what throws sends it to quarantine */
  readonly compute?: readonly ComputedField[] | undefined;
  /** why a record is not to be trusted, by its own words; undefined where it is */
  readonly faultOf?: ((record: Readonly<Record<string, unknown>>) => string | undefined) | undefined;
  /** what only tells that a record is gone is judged by no rule */
  readonly isRemoval?: ((record: Readonly<Record<string, unknown>>) => boolean) | undefined;
}

/** The fields that each record of a part is given, their templates filled. */
export function addedFields(
  add: Readonly<Record<string, unknown>>,
  values: TemplateValues,
): Readonly<Record<string, unknown>> {
  const filled = (value: unknown) => (typeof value === "string" ? (fillValue(value, values) ?? null) : value);
  return Object.fromEntries(Object.entries(add).map(([name, value]) => [name, filled(value)]));
}

/**
 * The page with the rules applied: fields added, records left out; what no rule can judge goes to quarantine. Where its
 * records are bytes, the rules see the fields that they look at.
 */
export function applyRules(page: PageRead, rules: RecordRules): PageRead {
  const { where, keep, add, compute = [] } = rules;
  // a record that says something of itself stands in no page of bytes
  const faultOf = page.source === undefined ? rules.faultOf : undefined;
  const hasRules =
    where !== undefined || keep !== undefined || compute.length > 0 || Object.keys(add).length > 0;
  if (!hasRules && faultOf === undefined) return page;
  const { source } = page;
  // the condition may have been asked on the way into rows
  const leftOut = source?.scan?.leftOut;
  const remaining = { ...rules, faultOf, where: leftOut === undefined ? where : undefined };
  const issues: Issue[] = [];
  const records: unknown[] = [];
  const kept: number[] = [];
  const news: RecordNews[] = [];
  for (const [i, raw] of page.records.entries()) {
    if (leftOut?.has(raw) === true) continue;
    const judged = judge(raw, remaining, hasRules);
    if ("issue" in judged) {
      const { record, ...issue } = judged.issue;
      issues.push({ ...issue, record: source === undefined ? record : wholeRecord(source, i, judged.news) });
    } else if (judged.isKept) {
      records.push(judged.record);
      kept.push(i);
      news.push(judged.news);
    }
  }
  return pageFrom(records, issues, page, source && withNews(source, kept, news));
}

function withNews(source: ByteRecords, kept: readonly number[], news: readonly RecordNews[]): ByteRecords {
  const some = kept.length === source.starts.length ? source : someOf(source, kept);
  // those that are left out have no rows in it
  const scan = source.scan?.leftOut === undefined ? some.scan : scanAmong(source.scan, kept);
  // what is added to all records alike may have been scanned with them
  const [first] = news;
  const isAlike = news.every((each) => each === first);
  const isScanned = isAlike && stringifyExact(scan?.news ?? {}) === stringifyExact(first ?? {});
  return { ...some, news, scan: isScanned ? scan : undefined };
}

/** Rows of the kept records of a page, the odd ones among them by their places there. */
function scanAmong(scan: PageScan, kept: readonly number[]): PageScan {
  const places = new Map(kept.map((i, place) => [i, place]));
  return { ...scan, odd: scan.odd.flatMap((i) => places.get(i) ?? []) };
}

/** What rules make of one record; `news` are the fields that it has by them. */
type Judged =
  | { readonly isKept: boolean; readonly record: unknown; readonly news: RecordNews }
  | { readonly issue: Issue; readonly news: RecordNews };

function judge(raw: unknown, rules: RecordRules, hasRules: boolean): Judged {
  const { where, keep, add, compute = [], isRemoval, faultOf } = rules;
  if (!isPlainObject(raw) || isRemoval?.(raw) === true) return { isKept: true, record: raw, news: undefined };
  const fault = faultOf?.(raw);
  if (fault !== undefined)
    return { issue: { reason: "told_faulty", path: "", message: fault, record: raw }, news: undefined };
  if (!hasRules) return { isKept: true, record: raw, news: undefined };
  // a copy: the page's own records are compared with the next page's
  const record: Record<string, unknown> = { ...raw, ...add };
  const uncomputed = computeInto(record, compute);
  const news = () => (compute.length === 0 ? add : { ...add, ...computed(record, compute) });
  if (uncomputed !== undefined)
    return { issue: { reason: "not_computed", ...uncomputed, record }, news: news() };
  try {
    const isKept = (where === undefined || where.holds({ record })) && (keep === undefined || keep(record));
    return { isKept, news: news(), record };
  } catch (error) {
    if (isBridgeError(error)) throw error;
    const message = `where: ${where?.text ?? "keep"} cannot be judged: ${(error as Error).message.split("\n")[0]}`;
    return { issue: { reason: "not_judged", path: "", message, record }, news: news() };
  }
}

/** The fields that were worked out; in the record as well, CEL's integers become JSON's where those hold them. */
function computed(record: Record<string, unknown>, compute: readonly ComputedField[]): RecordNews {
  const fields: Record<string, unknown> = {};
  for (const { name } of compute) {
    const value = record[name];
    if (typeof value === "bigint" && Number.isSafeInteger(Number(value))) record[name] = Number(value);
    if (Object.hasOwn(record, name)) fields[name] = record[name];
  }
  return fields;
}

/** Puts the fields in, each over those before it; gives what is wrong with the first that cannot be worked out. */
function computeInto(
  record: Record<string, unknown>,
  compute: readonly ComputedField[],
): Pick<Issue, "path" | "message"> | undefined {
  for (const { name, value } of compute) {
    try {
      record[name] = value(record);
    } catch (error) {
      if (isBridgeError(error)) throw error;
      const words = (error as Error).message.split("\n")[0];
      return { path: name, message: `compute: ${name} cannot be worked out: ${words}` };
    }
  }
  return undefined;
}

/**
 * The page without the records that `where` leaves out by what the list says of them: they need not be asked
 * for. What cannot be judged before it is expanded stays.
 */
export function leaveOutEarly(page: PageRead, { where, add }: RecordRules): PageRead {
  if (where === undefined) return page;
  const keeps = keepsBy(where, add);
  return withRecords(
    page,
    page.records.filter((raw) => !isPlainObject(raw) || keeps(raw) !== false),
  );
}

/** Whether a condition keeps a record that is given fields; undefined where it cannot judge it. */
export function keepsBy(where: Condition, add: Readonly<Record<string, unknown>>): Keeps {
  return (record) => {
    try {
      return where.holds({ record: { ...record, ...add } });
    } catch {
      return undefined;
    }
  };
}
