/** The requests of a stream: pure functions from a definition and values to an address, headers and a body. */

import type { BodyDefinition, RequestDefinition } from "../define/ask-schema.js";
import { BridgeError, type Where } from "../errors.js";
import {
  escapeXml,
  expandTemplate,
  fillBlank,
  fillOptional,
  fillValue,
  isList,
  type Scalar,
  type TemplateValues,
} from "../language/template.js";

/** One request to an API, before it is signed. */
export interface ApiRequest {
  readonly method: "GET" | "POST";
  readonly url: string;
  readonly headers: Readonly<Record<string, string>>;
  readonly body?: string | undefined;
  /** whether it may be sent again after it may have arrived (RFC 9110, section 9.2.2) */
  readonly repeatable: boolean;
}

/** The definition's part that makes a request. */
export type RequestTemplate = Pick<
  RequestDefinition,
  "get" | "post" | "query" | "headers" | "body" | "safe_to_retry"
>;

/** A query parameter that the page, the cursor or the window sets; a list is repeated. */
export type Parameters = Readonly<Record<string, Scalar | readonly Scalar[] | undefined>>;

/**
 * A request from its template. Query values are percent-encoded, a space as %20; what has no value is left out;
 * a list is repeated, unless the template joins it (`{ids}` gives a,b and `{ids*}` repeats, as in RFC 6570).
 * `link` is a whole address that the API gave for the next page: it stands in for path and query.
 */
export function planRequest(
  base: string,
  template: RequestTemplate,
  headers: Readonly<Record<string, string>>,
  values: TemplateValues,
  parameters: Parameters = {},
  link?: string,
): ApiRequest {
  const method = template.post === undefined ? "GET" : "POST";
  const url = link ?? plannedUrl(base, template, values, parameters);
  const body = template.body && planBody(template.body, values);
  const filled: Record<string, string> = { ...headers };
  for (const [name, text] of Object.entries(template.headers)) {
    const value = fillOptional(text, values);
    if (value !== undefined) filled[name.toLowerCase()] = value;
  }
  if (body !== undefined) filled["content-type"] = body.type;
  return {
    method,
    url,
    headers: filled,
    body: body?.text,
    repeatable: method === "GET" || template.safe_to_retry,
  };
}

function plannedUrl(
  base: string,
  template: RequestTemplate,
  values: TemplateValues,
  parameters: Parameters,
): string {
  const path = expandTemplate(template.get ?? template.post ?? "", values);
  const pairs = new Map<string, Scalar | readonly Scalar[] | undefined>();
  for (const [name, value] of Object.entries(template.query)) {
    pairs.set(name, typeof value === "string" ? queryValue(value, values) : queryList(value, values));
  }
  for (const [name, value] of Object.entries(parameters)) if (value !== undefined) pairs.set(name, value);
  const query = encodeQuery(pairs);
  return base + path + (query === "" ? "" : (path.includes("?") ? "&" : "?") + query);
}

/** `{ids*}` is repeated; `{ids}` is joined; a lone value keeps its kind. */
function queryValue(text: string, values: TemplateValues): Scalar | readonly Scalar[] | undefined {
  const value = fillValue(text, values);
  return isList(value) && !text.endsWith("*}") ? value.join(",") : value;
}

function queryList(
  value: Scalar | readonly (string | number | boolean)[],
  values: TemplateValues,
): Scalar | readonly Scalar[] | undefined {
  if (!isList(value)) return value;
  return value.flatMap((each) => {
    const filled = typeof each === "string" ? fillValue(each, values) : each;
    return filled === undefined ? [] : filled;
  });
}

function encodeQuery(pairs: Iterable<readonly [string, Scalar | readonly Scalar[] | undefined]>): string {
  const parts: string[] = [];
  for (const [name, value] of pairs) {
    if (value === undefined) continue;
    for (const each of isList(value) ? value : [value])
      parts.push(`${encodeName(name)}=${encodeURIComponent(String(each))}`);
  }
  return parts.join("&");
}

/** Addresses up to this length go everywhere; bytes. */
export const LONGEST_ADDRESS = 2000;

/**
 * The same request with its query in a body (OData URL Conventions 4.01, section 2.1.1); it changes nothing, so it may
 * be sent again.
 */
export function queryInBody(request: ApiRequest): ApiRequest {
  const [path, query = ""] = request.url.split("?");
  return {
    ...request,
    method: "POST",
    url: `${path}/$query`,
    headers: { ...request.headers, "content-type": "text/plain" },
    body: query,
    repeatable: true,
  };
}

/** The same request with all that there is of each record, instead of what `$select` names. */
export function withoutSelect(request: ApiRequest): ApiRequest {
  const [path, query = ""] = request.url.split("?");
  const others = query.split("&").filter((pair) => !pair.startsWith("$select="));
  return { ...request, url: others.length === 0 ? path! : `${path}?${others.join("&")}` };
}

/** `$` may stand in a query (RFC 3986, section 3.4), and some services know their own options by it only. */
function encodeName(name: string): string {
  return encodeURIComponent(name).replaceAll("%24", "$");
}

function planBody(body: BodyDefinition, values: TemplateValues): { text: string; type: string } {
  if ("json" in body) return { text: JSON.stringify(fillJson(body.json, values)), type: "application/json" };
  if ("xml" in body) return { text: fillBlank(body.xml, values, escapeXml), type: "text/xml; charset=utf-8" };
  if ("text" in body) return { text: fillBlank(body.text, values, (value) => value), type: body.type };
  const pairs = Object.entries(body.form).map(([name, text]) => [name, queryValue(text, values)] as const);
  return { text: encodeQuery(pairs), type: "application/x-www-form-urlencoded" };
}

/** A lone `{name}` keeps its kind: a number stays a number, a list a list; what has no value is left out. */
function fillJson(json: unknown, values: TemplateValues): unknown {
  if (typeof json === "string") {
    const value = fillValue(json, values);
    return typeof value === "bigint" ? String(value) : value;
  }
  if (Array.isArray(json))
    return json.map((each) => fillJson(each, values)).filter((each) => each !== undefined);
  if (typeof json !== "object" || json === null) return json;
  const filled: Record<string, unknown> = {};
  for (const [key, value] of Object.entries(json)) filled[key] = fillJson(value, values);
  return filled;
}

/**
 * The next page's address as the API wrote it, made whole: absolute, or relative to the page that gave it
 * (RFC 3986, section 5). http in front of the page's own https host is a proxy's mistake and is set right.
 * @throws BridgeError LINK_NOT_OURS when it leads to an origin that is none of the API's own
 */
export function resolveLink(
  link: string,
  pageUrl: string,
  origins: readonly string[],
  where: Where = {},
): string {
  if (!URL.canParse(link, pageUrl)) {
    throw new BridgeError(
      "TOKEN_NOT_TEXT",
      `The next page's address is "${link.slice(0, 80)}", which is none.`,
      { where },
    );
  }
  const url = new URL(link, pageUrl);
  const page = new URL(pageUrl);
  if (url.protocol === "http:" && page.protocol === "https:" && url.hostname === page.hostname) {
    url.protocol = "https:";
    url.port = page.port;
  }
  if (origins.includes(url.origin)) return url.href;
  const message = `The next page's address leads to ${url.origin}, which is not the API's own.`;
  throw new BridgeError("LINK_NOT_OURS", message, { where });
}
