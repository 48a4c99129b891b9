/**
 * Many requests in one: as JSON (OData JSON Format 4.01, section 19) or, before 4.01, as multipart (OData Protocol
 * 4.01, section 11.7.7; OData 2.0, Batch Processing). Only GETs are put together: each may be asked for again.
 */

import type { HeaderValues } from "../pace/limit-headers.js";
import { isPlainObject, parseExactJson, stringifyExact } from "../shape/exact-json.js";
import type { ODataVersion } from "./model.js";

/** A GET that goes into a batch. */
export interface BatchedRequest {
  readonly url: string;
  readonly headers: Readonly<Record<string, string>>;
}

/** One of the responses in a batch. */
export interface BatchedResponse {
  readonly status: number;
  readonly headers: HeaderValues;
  readonly body: Uint8Array;
}

const BOUNDARY = "batch_of_requests";
const LINE = "\r\n";

/** The requests as one; addresses below the root become relative to it. */
export function batchRequest(root: string, requests: readonly BatchedRequest[], version: ODataVersion) {
  const isJson = version === "4.01";
  const relative = ({ url }: BatchedRequest) =>
    url.startsWith(`${root}/`) ? url.slice(root.length + 1) : url;
  const headers = {
    ...requests[0]?.headers,
    accept: isJson ? "application/json" : "multipart/mixed",
    "content-type": isJson ? "application/json" : `multipart/mixed; boundary=${BOUNDARY}`,
    prefer: version === "4.01" ? "continue-on-error" : "odata.continue-on-error",
  };
  const url = `${root}/$batch`;
  const body = isJson ? jsonBody(requests, relative) : multipartBody(requests, relative);
  return { method: "POST", url, headers, body, repeatable: true } as const;
}

function jsonBody(
  requests: readonly BatchedRequest[],
  relative: (request: BatchedRequest) => string,
): string {
  return JSON.stringify({
    requests: requests.map((request, i) => ({
      id: String(i),
      method: "get",
      url: relative(request),
      headers: { accept: request.headers.accept },
    })),
  });
}

function multipartBody(
  requests: readonly BatchedRequest[],
  relative: (request: BatchedRequest) => string,
): string {
  const parts = requests.map((request) =>
    [
      `--${BOUNDARY}`,
      "Content-Type: application/http",
      "Content-Transfer-Encoding: binary",
      "",
      `GET ${relative(request)} HTTP/1.1`,
      `Accept: ${request.headers.accept}`,
      "",
      "",
      "",
    ].join(LINE),
  );
  return `${parts.join("")}--${BOUNDARY}--${LINE}`;
}

/**
 * The responses in the order of their requests; undefined for one that is not there. What is no batch at all has none.
 */
export function batchResponses(
  body: Uint8Array,
  contentType: string,
  count: number,
): readonly (BatchedResponse | undefined)[] {
  const found = /^multipart\//i.test(contentType)
    ? multipartResponses(body, contentType)
    : jsonResponses(body);
  return Array.from({ length: count }, (_, i) => found.get(i));
}

function jsonResponses(body: Uint8Array): Map<number, BatchedResponse> {
  const found = new Map<number, BatchedResponse>();
  const tree = parseExactJson(new TextDecoder().decode(body));
  if (!isPlainObject(tree) || !Array.isArray(tree.responses)) return found;
  for (const each of tree.responses) {
    if (!isPlainObject(each) || typeof each.status !== "number") continue;
    const headers = isPlainObject(each.headers) ? each.headers : {};
    const text = each.body === undefined ? "" : stringifyExact(each.body);
    found.set(Number(each.id), {
      status: each.status,
      headers: Object.fromEntries(
        Object.entries(headers).map(([name, value]) => [name.toLowerCase(), String(value)]),
      ),
      body: new TextEncoder().encode(text),
    });
  }
  return found;
}

/** RFC 2046, section 5.1; each part holds a response as RFC 9112 writes it. */
function multipartResponses(body: Uint8Array, contentType: string): Map<number, BatchedResponse> {
  const found = new Map<number, BatchedResponse>();
  const boundary = /boundary=(?:"([^"]+)"|([^;\s]+))/i.exec(contentType)?.slice(1).find(Boolean);
  if (boundary === undefined) return found;
  // one sign for each byte: places in the text are places in the bytes
  const text = new TextDecoder("latin1").decode(body);
  const marks = [
    ...text.matchAll(new RegExp(`(?:^|\\r?\\n)--${escaped(boundary)}(--)?[ \\t]*(?=\\r?\\n|$)`, "g")),
  ];
  for (const [i, mark] of marks.entries()) {
    if (mark[1] === "--") break;
    const from = mark.index + mark[0].length;
    const to = marks[i + 1]?.index ?? text.length;
    const response = responseIn(text.slice(from, to), body.subarray(from, to));
    if (response !== undefined) found.set(i, response);
  }
  return found;
}

function responseIn(text: string, bytes: Uint8Array): BatchedResponse | undefined {
  const start = /HTTP\/\d(?:\.\d)? (\d{3})[^\r\n]*\r?\n/.exec(text);
  if (start === null) return undefined;
  const head = start.index + start[0].length;
  const end = /(?:^|\r?\n)\r?\n/.exec(text.slice(head));
  const headText = text.slice(head, end === null ? undefined : head + end.index);
  const headers = Object.fromEntries(
    headText.split(/\r?\n/).flatMap((line) => {
      const colon = line.indexOf(":");
      return colon < 1 ? [] : [[line.slice(0, colon).toLowerCase(), line.slice(colon + 1).trim()]];
    }),
  );
  const bodyAt = end === null ? bytes.length : head + end.index + end[0].length;
  const length = /^\d+$/.test(headers["content-length"] ?? "")
    ? Number(headers["content-length"])
    : undefined;
  const body = bytes.subarray(bodyAt, length === undefined ? undefined : bodyAt + length);
  return { status: Number(start[1]), headers, body };
}

function escaped(text: string): string {
  return text.replaceAll(/[.*+?^${}()|[\]\\]/g, "\\$&");
}
