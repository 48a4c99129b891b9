/** A draft from an OpenAPI document: a stream for each operation that lists things and can be asked as it stands. */

import { type Draft, parentNames } from "../draft/draft.js";
import type { Guess } from "../draft/seen.js";
import type { OpenApiService } from "./read-openapi.js";

/** What the document does not say of itself. */
export interface OpenApiDraftOptions {
  readonly name: string;
  /** whole address: of the API, or where the document was found */
  readonly at: string | undefined;
  /** lines under `settings:` */
  readonly settings: readonly string[];
  readonly rateLimit: Guess<Readonly<Record<string, number>>>;
  /** only these streams, by name; default: all */
  readonly only?: readonly string[] | undefined;
}

/** Stands where no address is known. */
export const NO_ADDRESS = "https://api.huts.example";
/** So many operations are named that could not become streams. */
const MOST_SAID = 20;

export function draftOpenApi(service: OpenApiService, options: OpenApiDraftOptions): Draft {
  const { resources, title, version, others, signIn } = service;
  const { name, only, settings, rateLimit } = options;
  const { base, path } = addressOf(service, options.at);
  const wanted = resources.filter(({ stream }) => only?.includes(stream.name) !== false);
  const parents = new Set(wanted.flatMap(({ stream }) => parentNames(stream)));
  const streams = resources.filter(
    ({ stream, missing }) =>
      missing.length === 0 && (only === undefined || only.includes(stream.name) || parents.has(stream.name)),
  );
  const left = wanted.filter(({ missing }) => missing.length > 0);
  const said = left
    .slice(0, MOST_SAID)
    .map(({ path: at, missing }) => `left out: GET ${at} needs ${missing.join(", ")}, and no list gives it`);
  return {
    name,
    base,
    path,
    settings,
    signIn,
    rateLimit,
    streams: streams.map(({ stream }) => stream),
    said: [
      `A draft from the OpenAPI document of ${title} ${version}: nothing was asked of the API. Look it through.`,
      `${others} of its operations list nothing, or change something.`,
      ...said,
      ...(left.length > MOST_SAID ? [`left out as well: ${left.length - MOST_SAID} more`] : []),
    ],
  };
}

/** The account's address, and the path that all operations have in common. */
function addressOf({ server }: OpenApiService, at: string | undefined): { base: string; path: string } {
  const whole =
    server !== undefined && URL.canParse(server, at ?? NO_ADDRESS)
      ? new URL(server, at ?? NO_ADDRESS)
      : undefined;
  const url = whole ?? new URL(at ?? NO_ADDRESS);
  const isOwn = server !== undefined && URL.canParse(server);
  const origin = isOwn ? url.origin : new URL(at ?? NO_ADDRESS).origin;
  return { base: origin, path: whole === undefined ? "" : url.pathname.replace(/\/$/, "") };
}
