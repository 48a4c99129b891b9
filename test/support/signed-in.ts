/** Streams read under a sign-in, and a service that shows what came of it. */

import { memoryTokenStore } from "../../src/auth/token-store.js";
import type { ConnectorInput } from "../../src/core/define/connector-input.js";
import { type ConnectOptions, connect, defineConnector } from "../../src/index.js";
import { serve } from "./serve.js";

export type SignIn = ConnectorInput["api"]["sign_in"];
/** A service that gives back what came to it. */
export const echo = () =>
  serve((request, response) => {
    const { authorization, cookie, "x-key": key, "x-signature": signature } = request.headers;
    response.end(JSON.stringify([{ url: request.url, authorization, cookie, key, signature }]));
  });

export const quick: ConnectOptions = { retry: { tries: 2, baseMs: 1 } };

/** Reads one stream of a service under a sign-in; all settings are text, and given. */
export async function read(
  url: string,
  signIn: SignIn,
  settings: Record<string, string> = {},
  options: ConnectOptions = {},
): Promise<Record<string, unknown>[]> {
  const connector = defineConnector({
    connector: "plain",
    settings: Object.fromEntries(
      Object.keys(settings).map((name) => [name, { type: "string" as const, secret: true }]),
    ),
    api: { url, sign_in: signIn },
    streams: { things: { get: "/things" } },
  });
  await using api = connect(connector, settings, { tokens: memoryTokenStore(), ...quick, ...options });
  const records: Record<string, unknown>[] = [];
  for await (const record of api.records("things")) records.push(record as Record<string, unknown>);
  return records;
}
