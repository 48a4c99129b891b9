/** How a response may lead to the next page: each guess is a page rule that is then tried. */

import Link from "http-link-header";
import { wholeNumber } from "../ask/page-rule.js";
import { isPlainObject } from "../shape/exact-json.js";
import { type FoundRecords, jsonPathOf } from "./find-records.js";
import type { Guess, Seen } from "./seen.js";

/** A page rule as a connector file writes it. */
export type PagesGuess = Readonly<Record<string, unknown>>;

/** A scalar of the body outside of the records. */
export interface Leaf {
  readonly steps: readonly string[];
  readonly value: string | number | boolean;
}

const TOKEN_NAMES = [
  "after",
  "cursor",
  "page_token",
  "token",
  "pageToken",
  "continuation",
  "next",
  "start",
  "marker",
];
const SIZES = ["per_page", "limit", "page_size", "pageSize", "size"];

/** The likeliest first. What is already in the address tells of parameters that the API knows. */
export function guessPages(
  seen: Seen,
  { records, steps }: FoundRecords,
  key: readonly string[] | undefined,
): Guess<PagesGuess>[] {
  const leaves = leavesOf(seen.body, [], steps);
  const inAddress = [...new URL(seen.url).searchParams.keys()];
  const guesses = [
    ...byHeader(seen),
    ...byLink(leaves),
    ...byToken(leaves, inAddress),
    ...byCount(leaves, records.length),
  ];
  const isAll = guesses.length === 0 && totalOf(leaves, records.length)?.value === records.length;
  if (isAll || records.length < FEWEST) return guesses;
  const [field] = key?.length === 1 ? key : [];
  const byKey =
    field === undefined
      ? []
      : ["after", "starting_after", "since_id"].map((query) => ({
          value: { after: field, query },
          why: `${query}= the last record's ${field} gives the next page`,
        }));
  // an API that says that there is more, and how, needs no blind tries
  return guesses.length > 0 ? guesses : [...blind(records.length), ...byKey];
}

/** So many records on a page may be a full one. */
const FEWEST = 10;

/** RFC 8288, section 3. */
function byHeader({ headers }: Seen): Guess<PagesGuess>[] {
  const { link } = headers;
  if (link === undefined) return [];
  try {
    const next = Link.parse(link).rel("next")[0];
    return next === undefined
      ? []
      : [{ value: { link: "header" }, why: "a Link header leads to the next page" }];
  } catch {
    return [];
  }
}

function byLink(leaves: readonly Leaf[]): Guess<PagesGuess>[] {
  return leaves
    .filter(({ steps, value }) => /next/i.test(steps.join(".")) && isAddress(value))
    .map(({ steps }) => ({
      value: { link: jsonPathOf(steps) },
      why: "the response holds the address of the next page",
    }));
}

function isAddress(value: unknown): boolean {
  return typeof value === "string" && /^(https?:\/\/|\/)|^[\w./-]*\?\w+=/.test(value);
}

function byToken(leaves: readonly Leaf[], inAddress: readonly string[]): Guess<PagesGuess>[] {
  return leaves
    .filter(({ steps, value }) => {
      const name = steps.join(".");
      const isScalar =
        typeof value === "string" ? value !== "" && !isAddress(value) : typeof value === "number";
      return (
        isScalar &&
        /next|cursor|token|continu|after|bookmark|scroll/i.test(name) &&
        !/prev|total|count/i.test(name)
      );
    })
    .flatMap(({ steps }) => {
      const name = steps.at(-1)!;
      const stem = name.replace(/^next_?/i, "");
      const own = [stem, stem.charAt(0).toLowerCase() + stem.slice(1), name].filter((each) => each !== "");
      const queries = [
        ...new Set([
          ...inAddress.filter((each) => own.includes(each)),
          ...TOKEN_NAMES.slice(0, 2),
          ...own,
          ...TOKEN_NAMES,
        ]),
      ];
      return queries.map((query) => ({
        value: { token: jsonPathOf(steps), query },
        why: `${query}= the value at ${jsonPathOf(steps)} gives the next page`,
      }));
    });
}

/** What may be the token that the body of a POST has a place for. */
export function guessTokens({ body }: Seen, { steps }: FoundRecords): Guess<PagesGuess>[] {
  const paths = byToken(leavesOf(body, [], steps), []).map(({ value }) => value.token as string);
  return [...new Set(paths)].map((token) => ({
    value: { token },
    why: `the value at ${token}, in the place of {token}, gives the next page`,
  }));
}

/** By offset or by number, where the response says how many there are. */
function byCount(leaves: readonly Leaf[], received: number): Guess<PagesGuess>[] {
  const total = totalOf(leaves, received);
  const pages = leaves.find(
    ({ steps, value }) =>
      /(total|num)_?pages|page_?count|last_?page/i.test(steps.at(-1)!) && wholeNumber(value) !== undefined,
  );
  if (pages !== undefined && Number(pages.value) > 1)
    return numbered(received, { total_pages: jsonPathOf(pages.steps) });
  if (total === undefined || total.value <= received) return [];
  return [
    ...offsets(received, { total: jsonPathOf(total.steps) }),
    ...numbered(received, { total: jsonPathOf(total.steps) }),
  ];
}

function totalOf(leaves: readonly Leaf[], received: number) {
  const found = leaves.find(
    ({ steps, value }) =>
      /^(total|count|total_?(count|items|records|results|elements)|record_?count|num_?(found|results))$/i.test(
        steps.at(-1)!,
      ) && (wholeNumber(value) ?? -1) >= received,
  );
  return found === undefined ? undefined : { steps: found.steps, value: Number(found.value) };
}

function offsets(received: number, rest: PagesGuess): Guess<PagesGuess>[] {
  return ["offset", "start", "skip"].map((query) => ({
    value: { offset: 0, query, ...rest },
    why: `${query}=${received} gives the records behind the first ${received}`,
  }));
}

function numbered(received: number, rest: PagesGuess): Guess<PagesGuess>[] {
  return [
    ["page", 1],
    ["page_number", 1],
    ["pageNumber", 1],
    ["p", 1],
  ].map(([query, number]) => ({
    value: { number, query, ...rest } as PagesGuess,
    why: `${query}=2 gives other records than the first ${received}`,
  }));
}

/** Nothing says that there is more: the usual names, each tried once. */
function blind(received: number): Guess<PagesGuess>[] {
  return [numbered(received, {})[0]!, offsets(received, {})[0]!];
}

/** Parameters that may set how many records a page has. */
export function sizeNames(url: string): string[] {
  const inAddress = [...new URL(url).searchParams.keys()];
  const known = SIZES.filter((name) => inAddress.includes(name));
  return known.length > 0 ? known : SIZES;
}

/** Scalars of a body that stand in no list, as deep as an envelope is. */
export function leavesOf(value: unknown, steps: readonly string[], records: readonly string[]): Leaf[] {
  if (Array.isArray(value) || steps.length > 4) return [];
  if (!isPlainObject(value)) {
    const isScalar = typeof value === "string" || typeof value === "number" || typeof value === "boolean";
    return isScalar && steps.length > 0 && steps.join("\n") !== records.join("\n") ? [{ steps, value }] : [];
  }
  return Object.entries(value).flatMap(([key, inner]) => leavesOf(inner, [...steps, key], records));
}
