/**
 * Where things are in a response (OData JSON Format 4.01; OData 2.0 JSON), whichever version answers: records, the next
 * page, the count, the place for changes, and an error that comes late.
 */

import { BridgeError, type Where } from "../errors.js";
import type { JsonPath } from "../language/plain-path.js";
import { isPlainObject } from "../shape/exact-json.js";

/** The first of several members of the body, or of its `d` (2.0 and verbose 3.0). */
function member(text: string, names: readonly string[]): JsonPath {
  const first = (body: unknown): unknown => {
    if (!isPlainObject(body)) return undefined;
    const holders = isPlainObject(body.d) ? [body, body.d] : [body];
    for (const holder of holders)
      for (const name of names) if (holder[name] !== undefined && holder[name] !== null) return holder[name];
    return undefined;
  };
  const all = (body: unknown) => {
    const value = first(body);
    return value === undefined ? undefined : [value];
  };
  return { text, first, all, list: all };
}

export const NEXT_LINK = member("@odata.nextLink", [
  "@odata.nextLink",
  "@nextLink",
  "odata.nextLink",
  "__next",
]);
export const COUNT = member("@odata.count", ["@odata.count", "@count", "odata.count", "__count"]);
export const DELTA_LINK = member("@odata.deltaLink", [
  "@odata.deltaLink",
  "@deltaLink",
  "odata.deltaLink",
  "__delta",
]);

/** Members of a response that say something of it, and hold no entity. */
const CONTROL = /^(@|odata\.|d$|__)/;

/** The entities: `value`, `d.results`, `d`; or the body itself, where it is one entity. */
export const ENTITIES: JsonPath = { text: "value", first: entities, all: entityList, list: entityList };

function entities(body: unknown): unknown {
  return entityList(body)?.[0];
}

function entityList(body: unknown): readonly unknown[] | undefined {
  if (!isPlainObject(body)) return undefined;
  if (Array.isArray(body.value)) return body.value;
  const { d } = body;
  if (Array.isArray(d)) return d;
  if (isPlainObject(d))
    return Array.isArray(d.results) ? d.results : Object.keys(d).length > 0 ? [d] : undefined;
  if (body.error !== undefined || body["odata.error"] !== undefined) return undefined;
  const isEntity = Object.keys(body).some((name) => !CONTROL.test(name));
  return isEntity && !("value" in body) ? [body] : undefined;
}

/** An error behind entities that have come already (OData JSON Format 4.01, section 18.1); undefined: none. */
export function lateError(body: unknown): unknown {
  if (!isPlainObject(body)) return undefined;
  const own = Array.isArray(body.value) || body.d !== undefined ? body.error : undefined;
  return body["@odata.error"] ?? body["@error"] ?? own ?? undefined;
}

/** @throws BridgeError RESPONSE_UNLIKE where an error stands behind entities */
export function checkLateError(body: unknown, where: Where): void {
  const late = lateError(body);
  if (late === undefined) return;
  const words = isPlainObject(late) && typeof late.message === "string" ? `: ${late.message}` : ".";
  throw new BridgeError("RESPONSE_UNLIKE", `The API broke off in the middle of its entities${words}`, {
    where,
  });
}

/**
 * What an entity says of itself that makes it none to trust: the service could not give it, or one of its values, as it
 * is (Core vocabulary: ResourceException, ValueException).
 */
export function faultOf(entity: Readonly<Record<string, unknown>>): string | undefined {
  for (const name of Object.keys(entity)) {
    const [, property, kind] = /^(.*)@.*\b(ResourceException|ValueException)$/.exec(name) ?? [];
    if (kind === undefined) continue;
    const { info, value } = (isPlainObject(entity[name]) ? entity[name] : {}) as Record<string, unknown>;
    const message = isPlainObject(info) ? info.message : (value ?? info);
    const words = typeof message === "string" ? `: ${message}` : "";
    return `the service says that ${property || "the entity"} is not as it should be (${kind})${words}`;
  }
  return undefined;
}

/**
 * The response with the address of each stream where its value would be (OData JSON Format 4.01, section 4.6.14; 3.0
 * verbose, `__mediaresource`). By convention it is that of the entity and the property's name.
 */
export function withStreams(body: unknown, streams: Streams): unknown {
  if (streams.names.length === 0 || !isPlainObject(body)) return body;
  const entity = (value: unknown) => (isPlainObject(value) ? streamAddresses(value, streams) : value);
  if (Array.isArray(body.value)) return { ...body, value: body.value.map(entity) };
  const { d } = body;
  if (Array.isArray(d)) return { ...body, d: d.map(entity) };
  if (!isPlainObject(d)) return d === undefined ? entity(body) : body;
  return { ...body, d: Array.isArray(d.results) ? { ...d, results: d.results.map(entity) } : entity(d) };
}

/** Properties whose values have addresses of their own, and what those are below. */
export interface Streams {
  readonly names: readonly string[];
  readonly root: string;
  /** an entity's path below the root; undefined where its key is not known */
  pathOf(entity: Readonly<Record<string, unknown>>): string | undefined;
}

function streamAddresses(
  entity: Readonly<Record<string, unknown>>,
  { names, root, pathOf }: Streams,
): Readonly<Record<string, unknown>> {
  const path = pathOf(entity);
  const addresses: Record<string, string> = {};
  for (const name of names) {
    const media = isPlainObject(entity[name]) ? entity[name].__mediaresource : undefined;
    const { media_src: source, edit_media: edit } = isPlainObject(media) ? media : {};
    const told = ["odata.mediaReadLink", "mediaReadLink", "odata.mediaEditLink", "mediaEditLink"].map(
      (each) => entity[`${name}@${each}`],
    );
    const found = [...told, source, edit, path && `${path}/${name}`].find(
      (each) => typeof each === "string" && URL.canParse(each, `${root}/`),
    );
    if (found !== undefined) addresses[name] = new URL(found as string, `${root}/`).href;
  }
  return { ...entity, ...addresses };
}

/** Whether a member of an entity says something about it (annotations, links not followed) and is no property. */
export function isControl(name: string): boolean {
  return name.includes("@") || name.startsWith("odata.") || name === "__metadata" || name === "__count";
}

const SAYS_LITTLE =
  /@(odata\.)?(etag|id|type|editLink|readLink|navigationLink|associationLink|mediaEtag|mediaContentType|mediaEditLink|mediaReadLink)$|^__metadata$/;

/** Whether a control member may say that the entity is cut, faulty, gone or of another set. */
export function isTelling(name: string): boolean {
  return isControl(name) && !SAYS_LITTLE.test(name);
}

const DATE_TEXT = /^\/Date\((-?\d+)([+-]\d+)?\)\/$/;

/**
 * The response of 2.0 or 3.0 with its entities as those of 4.0 are: times `/Date(ms)/` and `/Date(ms±minutes)/` as RFC
 * 3339 has them (without a zone, but for those with an offset and those named in `instants`), and expanded collections
 * as lists, the address of their rest beside them.
 */
export function modernBody(body: unknown, instants: ReadonlySet<string>): unknown {
  const entity = (value: unknown) => modernValue(value, instants, "");
  if (!isPlainObject(body)) return body;
  if (Array.isArray(body.value)) return { ...body, value: body.value.map(entity) };
  const { d } = body;
  if (Array.isArray(d)) return { ...body, d: d.map(entity) };
  if (!isPlainObject(d)) return body;
  return { ...body, d: Array.isArray(d.results) ? { ...d, results: d.results.map(entity) } : entity(d) };
}

function modernValue(value: unknown, instants: ReadonlySet<string>, name: string): unknown {
  if (typeof value === "string") return modernTime(value, instants.has(name));
  if (Array.isArray(value)) return value.map((each) => modernValue(each, instants, name));
  if (!isPlainObject(value)) return value;
  return Object.fromEntries(
    Object.entries(value).flatMap(([key, inner]) => {
      const isExpanded = isPlainObject(inner) && Array.isArray(inner.results);
      const list = [key, modernValue(isExpanded ? inner.results : inner, instants, key)];
      const rest = isExpanded ? inner.__next : undefined;
      return rest === undefined ? [list] : [list, [`${key}${REST}`, rest]];
    }),
  );
}

/** A text as 4.0 has it: another one where it is a time of 2.0. */
export function modernTime(text: string, isInstant: boolean): string {
  const [, ms, offset] = DATE_TEXT.exec(text) ?? [];
  const time = ms === undefined ? Number.NaN : Number(ms);
  // what is beyond the calendar of Date stays text
  if (!(Math.abs(time) <= 8.64e15)) return text;
  const modern = new Date(time).toISOString().replace(/\.000Z$/, "Z");
  return offset !== undefined || isInstant ? modern : modern.slice(0, -1);
}

/** What is put behind a collection's name where the rest of it is elsewhere (OData JSON Format 4.01, section 4.6.5). */
const REST = "@odata.nextLink";

/** An expanded collection of an entity that is cut, and the address of its rest. */
export function cutCollection(
  name: string,
  value: unknown,
): { collection: string; link: string } | undefined {
  const collection = /^(.+)@(?:odata\.)?nextLink$/.exec(name)?.[1];
  return collection === undefined || typeof value !== "string" ? undefined : { collection, link: value };
}
