/**
 * Recordings of a run in HAR 1.2 (the HTTP Archive format), and answers from them.
 *
 * An exchange is recorded before credentials are added, and everything in it passes through the redactor: a
 * recording holds no secret that the run knew.
 */

import { gunzipSync } from "node:zlib";
import { unzipSync, zipSync } from "fflate";
import type { Content, Entry, Har, Header } from "har-format";
import type { Clock } from "../core/clock.js";
import { BridgeError } from "../core/errors.js";
import { type Concealed, recordableBody } from "../core/shape/concealed-values.js";
import { parseExactJson, stringifyExact } from "../core/shape/exact-json.js";
import type { SavedCursor } from "../core/track/cursor.js";
import type { RecordedExchange } from "./exchange.js";
import { packageVersion } from "./package-version.js";
import type { HttpRequest, HttpResponse } from "./send.js";

/** The cursors that a run began with, by stream and part. */
export type StartCursors = Readonly<Record<string, Readonly<Record<string, SavedCursor>>>>;

/** A recording: HAR, with what a replay needs beside it (names of custom fields begin with _). */
export interface Recording extends Har {
  readonly log: Har["log"] & { readonly _began: string; readonly _cursors: StartCursors };
}

/** Headers that may hold credentials, or that mean nothing in a recording. */
const LEFT_OUT = new Set([
  "authorization",
  "proxy-authorization",
  "cookie",
  "set-cookie",
  "content-encoding",
  "content-length",
  "transfer-encoding",
  "connection",
  "keep-alive",
]);

/** In the place of a body that could not be searched for values that are stored as hashes. */
const LEFT_OUT_BODY = "left out: it is no JSON, and some of its fields are stored as hashes only";

/** What an engine tells a recorder of a run. */
export type RunRecorder = Pick<Recorder, "runStarted" | "streamStarted">;

/** Takes exchanges of a run and hides its secrets in them. */
export class Recorder {
  private readonly entries: Entry[] = [];
  private taken = 0;
  private readonly cursors: Record<string, Record<string, SavedCursor>> = {};
  private beganMs = 0;

  /** `keep` takes each exchange; default: they are held in memory */
  constructor(
    private readonly keep: (entry: Entry) => void = (entry) => {
      this.entries.push(entry);
    },
  ) {}

  /** exchanges taken so far */
  get count(): number {
    return this.taken;
  }

  runStarted(atMs: number): void {
    this.beganMs = atMs;
  }

  streamStarted(stream: string, cursors: ReadonlyMap<string, SavedCursor>): void {
    this.cursors[stream] = Object.fromEntries(cursors);
  }

  /** Takes an exchange; `hide` removes secrets from a text. */
  readonly onRecord = (recorded: RecordedExchange, hide: (text: string) => string): void => {
    this.keep(entryOf(recorded, hide));
    this.taken++;
  };

  /** The recording so far, with the exchanges that are held in memory. */
  recording(): Recording {
    const creator = { name: "early-bridge", version: packageVersion() };
    const { entries, cursors, beganMs } = this;
    return {
      log: { version: "1.2", creator, entries, _began: new Date(beganMs).toISOString(), _cursors: cursors },
    };
  }
}

function entryOf(
  { request, response, startedMs, endedMs, concealed: paths }: RecordedExchange,
  hide: (text: string) => string,
): Entry {
  const time = endedMs - startedMs;
  const url = hide(request.url);
  const query = [...new URL(url).searchParams].map(([name, value]) => ({ name, value }));
  const content = contentOf(response, paths, hide);
  const type = request.headers["content-type"] ?? "";
  return {
    startedDateTime: new Date(startedMs).toISOString(),
    time,
    request: {
      method: request.method,
      url,
      httpVersion: "HTTP/1.1",
      cookies: [],
      headers: headersOf(request.headers, hide),
      queryString: query,
      headersSize: -1,
      bodySize: Buffer.byteLength(request.body ?? ""),
      ...(request.body === undefined ? {} : { postData: { mimeType: type, text: hide(request.body) } }),
    },
    response: {
      status: response.status,
      statusText: "",
      httpVersion: "HTTP/1.1",
      cookies: [],
      headers: headersOf(response.headers, hide),
      content: { size: response.body.length, mimeType: response.headers["content-type"] ?? "", ...content },
      redirectURL: hide(response.headers.location ?? ""),
      headersSize: -1,
      bodySize: response.body.length,
    },
    cache: {},
    timings: { send: 0, wait: time, receive: 0 },
  };
}

function headersOf(
  headers: Readonly<Record<string, string | undefined>>,
  hide: (text: string) => string,
): Header[] {
  return Object.entries(headers).flatMap(([name, value]) =>
    value === undefined || LEFT_OUT.has(name) ? [] : [{ name, value: hide(value) }],
  );
}

type Kept = Pick<Content, "text" | "encoding" | "comment">;

/**
 * Text, without its secrets; a gzip file as the text in it; other bytes in base64, without them as well. Where some
 * fields are not to be seen, only JSON is kept, with them concealed.
 */
function contentOf(
  { body }: HttpResponse,
  concealedPaths: readonly Concealed[],
  hide: (text: string) => string,
): Kept {
  if (concealedPaths.length === 0 || body.length === 0) return plainContent(body, hide);
  try {
    const text = gunzipped(body).toString("utf8");
    return { text: hide(linesConcealed(text, concealedPaths)) };
  } catch {
    return { comment: LEFT_OUT_BODY };
  }
}

/** JSON, or JSON in lines. */
function linesConcealed(text: string, paths: readonly Concealed[]): string {
  const one = (json: string) => stringifyExact(recordableBody(parseExactJson(json), paths));
  try {
    return one(text);
  } catch {
    return text.replace(/[^\r\n]*\S[^\r\n]*/g, one);
  }
}

function gunzipped(body: Uint8Array): Buffer {
  return body[0] === 0x1f && body[1] === 0x8b ? gunzipSync(body) : Buffer.from(body);
}

function plainContent(body: Uint8Array, hide: (text: string) => string): Kept {
  try {
    const text = new TextDecoder("utf-8", { fatal: true, ignoreBOM: true }).decode(gunzipped(body));
    return { text: hide(text) };
  } catch {
    const bytes = isZip(body) ? hiddenInZip(body, hide) : hiddenInBytes(body, hide);
    return { text: Buffer.from(bytes).toString("base64"), encoding: "base64" };
  }
}

function isZip(body: Uint8Array): boolean {
  return Buffer.from(body.subarray(0, 4)).toString("latin1") === "PK\x03\x04";
}

/** Every byte is a character of latin1, so that nothing but the secrets changes. */
function hiddenInBytes(bytes: Uint8Array, hide: (text: string) => string): Uint8Array {
  return Buffer.from(hide(Buffer.from(bytes).toString("latin1")), "latin1");
}

function hiddenInZip(body: Uint8Array, hide: (text: string) => string): Uint8Array {
  try {
    const files = Object.entries(unzipSync(body));
    return zipSync(Object.fromEntries(files.map(([name, bytes]) => [name, hiddenInBytes(bytes, hide)])));
  } catch {
    // a zip file that is broken: the run saw it so
    return body;
  }
}

/** Answers a request from a recording; `hide` takes secrets out of it, as they were taken out of the recording. */
export type ReplaySend = (request: HttpRequest, hide: (text: string) => string) => Promise<HttpResponse>;

/** A recording that answers in the place of the network. */
export interface Replay {
  /** answers from the recording, each of them once */
  readonly send: ReplaySend;
  /** the recording's time: waits pass at once */
  readonly clock: Clock;
  readonly cursors: StartCursors;
  /** recorded requests that nobody has asked for */
  leftOver(): string[];
}

/**
 * Opens a recording, or any HAR 1.2 file. A request is known by method, path, query and body, whatever the host.
 * @throws BridgeError RECORDING_MISSING when something is asked that was not recorded
 */
export function openReplay(har: Har | Recording): Replay {
  const { log } = har as { log: Har["log"] & Partial<Recording["log"]> };
  const answers = new Map<string, Entry[]>();
  for (const entry of log.entries) {
    const key = requestKey(entry.request.method, entry.request.url, entry.request.postData?.text);
    answers.set(key, [...(answers.get(key) ?? []), entry]);
  }
  let now = Date.parse(log._began ?? log.entries[0]?.startedDateTime ?? "2026-01-01T00:00:00Z");
  return {
    cursors: log._cursors ?? {},
    clock: {
      now: () => now,
      async sleep(ms, signal) {
        signal?.throwIfAborted();
        now += ms;
      },
    },
    async send(request, hide) {
      const { method, body } = request;
      const key = requestKey(method, hide(request.url), body && hide(body));
      const entry = answers.get(key)?.shift();
      if (entry === undefined) throw notRecorded(request);
      if (entry.response.content.comment === LEFT_OUT_BODY && entry.response.status < 300)
        throw notRecorded(
          request,
          "Its body was left out, for it is no JSON and has columns with hash: true.",
        );
      return responseOf(entry, request.url);
    },
    leftOver: () => [...answers.values()].flat().map(({ request }) => `${request.method} ${request.url}`),
  };
}

function requestKey(method: string, url: string, body: string | undefined): string {
  const { pathname, search } = new URL(url);
  return `${method} ${pathname}${search} ${body ?? ""}`;
}

function notRecorded({ method, url }: HttpRequest, hint?: string): BridgeError {
  const message = `The recording has no (further) response to ${method} ${url}.`;
  return new BridgeError("RECORDING_MISSING", message, { hint });
}

function responseOf({ response }: Entry, url: string): HttpResponse {
  const { content, headers, status } = response;
  const body = Buffer.from(content.text ?? "", content.encoding === "base64" ? "base64" : "utf8");
  const named = headers.filter(({ name }) => !LEFT_OUT.has(name.toLowerCase()));
  return {
    status,
    url,
    body,
    headers: Object.fromEntries(named.map(({ name, value }) => [name.toLowerCase(), value])),
  };
}
