/** An API as a function: it answers in this process, so that every way of asking can be tried without a network. */

import { defineConnector } from "../../src/core/define/connector.js";
import type { ConnectorInput } from "../../src/core/define/connector-input.js";
import type { ConnectorCode } from "../../src/core/define/connector-schema.js";
import type { Send } from "../../src/http/send.js";
import { connect } from "../../src/node/connect.js";

export interface Asked {
  readonly method: string;
  readonly path: string;
  readonly query: URLSearchParams;
  readonly headers: Readonly<Record<string, string>>;
  readonly body: string | undefined;
  /** 1 for the first request */
  readonly turn: number;
}

export interface Answered {
  readonly status?: number;
  readonly headers?: Readonly<Record<string, string>>;
  /** bytes as they are, a text, or JSON */
  readonly body?: unknown;
}

export const BASE = "https://api.huts.example/v1";

type StreamInput = NonNullable<ConnectorInput["streams"]>[string];

/** A connector of one stream `s`, or of several, against a function. */
export function fakeApi(
  streams:
    | StreamInput
    | {
        readonly streams: Readonly<Record<string, StreamInput>>;
        readonly api?: Partial<ConnectorInput["api"]>;
      },
  answer: (asked: Asked) => Answered | Promise<Answered>,
  code?: ConnectorCode,
) {
  const whole = "streams" in streams ? streams : { streams: { s: streams } };
  const connector = defineConnector(
    {
      connector: "fake",
      api: { url: BASE, sign_in: "none", rate_limit: { concurrency: 4 }, ...whole.api },
      streams: whole.streams,
    } as ConnectorInput,
    code,
  );
  const log: Asked[] = [];
  const replay: Send = async ({ method, url, headers, body }) => {
    const { pathname, searchParams } = new URL(url);
    const asked = {
      method,
      path: pathname.replace("/v1", ""),
      query: searchParams,
      headers,
      body,
      turn: log.length + 1,
    };
    log.push(asked);
    // nothing here waits for the outside: pages without end would hang the whole run of tests
    if (log.length > 50_000) throw new Error(`asked without end, last for ${url}`);
    const { status = 200, headers: told = {}, body: given = {} } = await answer(asked);
    const bytes =
      given instanceof Uint8Array
        ? given
        : new TextEncoder().encode(typeof given === "string" ? given : JSON.stringify(given));
    return { status, headers: told, body: bytes, url };
  };
  let now = Date.UTC(2026, 10, 1);
  const clock = {
    now: () => now,
    async sleep(ms: number, signal?: AbortSignal) {
      signal?.throwIfAborted();
      now += ms;
    },
  };
  const api = connect(connector, {}, { replay, clock, random: () => 0.5 });
  return { api, log, clock, connector };
}

/** All records of the stream `s`. */
export async function recordsOf(
  { api }: ReturnType<typeof fakeApi>,
  options: Parameters<typeof api.records>[1] = {},
  stream = "s",
): Promise<unknown[]> {
  const records: unknown[] = [];
  for await (const record of api.records(stream, options)) records.push(record);
  return records;
}
