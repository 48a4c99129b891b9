/** A service that does, on purpose, what real ones do on bad days: every fault, over every page rule and sign-in. */

import type { IncomingMessage, ServerResponse } from "node:http";
import type { ConnectorInput } from "../../src/core/define/connector-input.js";
import { serve } from "./serve.js";

type Stream = NonNullable<ConnectorInput["streams"]>[string];
type SignIn = ConnectorInput["api"]["sign_in"];

export interface Item {
  readonly id: number;
  readonly name: string;
}

export const SIZE = 10;
export const ITEMS: readonly Item[] = Array.from({ length: 47 }, (_, i) => ({
  id: i + 1,
  name: `hut ${i + 1}`,
}));

/** How a connector asks for pages; the service answers to all of them. */
export const PAGES: Readonly<Record<string, Stream["pages"]>> = {
  token: { token: "$.next", query: "after" },
  link: { link: "$.link" },
  "link header": { link: "header" },
  number: { number: 1, query: "page" },
  "number with a total": {
    number: 1,
    query: "page",
    total: "$.total",
    size: { query: "size", records: SIZE },
  },
  offset: { offset: 0, query: "from", overlap: 2, size: { query: "size", records: SIZE } },
};

export const SIGN_INS: Readonly<Record<string, (url: string) => SignIn>> = {
  none: () => "none",
  "a key in the query": () => ({ key: "{secret}", in: "query", name: "key" }),
  "client credentials": (url) => ({
    oauth2: "client_credentials",
    token_url: `${url}/token`,
    client_id: "me",
    client_secret: "{secret}",
  }),
};

export const SECRET = "hush-hush-of-the-upper-hut";

type Write = (response: ServerResponse) => unknown;
const answer =
  (status: number, body: string, headers: Record<string, string> = {}): Write =>
  (response) =>
    response.writeHead(status, { "content-type": "application/json", ...headers }).end(body);

/** What happens to the response of one request in the middle; `always`: to that of every request from there on. */
export const FAULTS: Readonly<Record<string, Write>> = {
  "a stray refusal": answer(429, "{}", { "retry-after": "0" }),
  "a failure": answer(503, "{}"),
  "a refusal of good credentials": answer(401, "{}"),
  "a web page": answer(200, "<!doctype html><title>One moment</title>", { "content-type": "text/html" }),
  "an error with status 200": answer(200, '{"error":{"message":"the cable car is stuck"}}'),
  "an empty list beside an error": answer(200, '{"items":[],"error":"the cable car is stuck"}'),
  "nothing at the records' place": answer(200, '{"status":"fine"}'),
  null: answer(200, "null"),
  "a part that nobody asked for": answer(206, '{"items":[]}'),
  "a body that breaks off": (response) => {
    response.writeHead(200, { "content-length": "1000" }).write('{"items":[{"id":1');
    setTimeout(() => response.destroy(), 5);
  },
  "a lost connection": (response) => response.destroy(),
  "no JSON": answer(200, "{items:[]}"),
};

export interface Crooked {
  readonly url: string;
  /** bad answers so far */
  faults(): number;
}

/** `times`: how often the fault happens, from the third request for a page on. */
export async function startCrooked(fault: Write, times: number): Promise<Crooked> {
  let asked = 0;
  let bad = 0;
  let tokens = 0;
  const url = await serve((request, response) => {
    const { pathname, searchParams: query } = new URL(request.url ?? "/", "http://x");
    if (pathname === "/token")
      return answer(
        200,
        JSON.stringify({ access_token: `t${++tokens}`, token_type: "bearer", expires_in: 60 }),
      )(response);
    if (!isSignedIn(request, query)) return answer(403, '{"message":"not signed in"}')(response);
    if (++asked >= 3 && bad < times) {
      bad++;
      return fault(response);
    }
    return page(query, response);
  });
  return { url, faults: () => bad };
}

/** Whoever shows a credential shows it once, and the right one. */
function isSignedIn({ headers }: IncomingMessage, query: URLSearchParams): boolean {
  const keys = query.getAll("key");
  return (
    (keys.length === 0 || keys.join() === SECRET) &&
    (headers.authorization ?? "Bearer t").startsWith("Bearer t")
  );
}

function page(query: URLSearchParams, response: ServerResponse): void {
  const from = Number(query.get("from") ?? query.get("after") ?? (Number(query.get("page") ?? 1) - 1) * SIZE);
  const items = ITEMS.slice(from, from + SIZE);
  const next = from + SIZE < ITEMS.length ? from + SIZE : null;
  // the address of the next page echoes what it was asked with, the key as well
  const echo = new URLSearchParams(query);
  if (next !== null) echo.set("from", String(next));
  const link = next === null ? null : `/s?${echo}`;
  const headers: Record<string, string> = link === null ? {} : { link: `<${link}>; rel="next"` };
  answer(200, JSON.stringify({ items, next, link, total: ITEMS.length }), headers)(response);
}
