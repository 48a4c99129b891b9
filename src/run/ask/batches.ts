/** Requests for many records in one, by `$batch`. What a batch does not give is left for single requests. */

import type { PagePosition } from "../../core/ask/page-position.js";
import type { PageRead } from "../../core/ask/read-page.js";
import type { ApiRequest } from "../../core/ask/request-plan.js";
import { isBridgeError, type Where } from "../../core/errors.js";
import type { TemplateValues } from "../../core/language/template.js";
import { type BatchedResponse, batchRequest, batchResponses } from "../../core/odata/batch.js";
import type { CompiledRequest } from "../../core/stream/compile-stream.js";
import type { Asker } from "./asker.js";

interface Wanted {
  readonly position: PagePosition;
  readonly values: TemplateValues;
}

/**
 * The pages of several requests; "gone" where the service knows nothing there, undefined where it is to be asked alone:
 * nothing was wanted, or the batch did not give it.
 */
export async function askInBatches(
  asker: Asker,
  of: CompiledRequest,
  wanted: readonly (Wanted | undefined)[],
  size: number,
  where: Where,
): Promise<readonly (PageRead | "gone" | undefined)[]> {
  const found: (PageRead | "gone" | undefined)[] = wanted.map(() => undefined);
  const places = wanted.flatMap((each, i) => (each === undefined ? [] : [i]));
  const chunks = Array.from({ length: Math.ceil(places.length / size) }, (_, n) =>
    places.slice(n * size, (n + 1) * size),
  );
  // the pace lets no more of them go than the API permits
  await Promise.all(
    chunks.map(async (chunk) => {
      const requests = chunk.map((i) => {
        const { position, values } = wanted[i]!;
        return asker.planned(of, position, values, {}, where, undefined);
      });
      const responses = await askOne(asker, of, requests, where);
      for (const [n, i] of chunk.entries()) found[i] = pageOf(asker, of, requests[n]!, responses[n]);
    }),
  );
  return found;
}

async function askOne(
  asker: Asker,
  of: CompiledRequest,
  requests: readonly ApiRequest[],
  where: Where,
): Promise<readonly (BatchedResponse | undefined)[]> {
  const { set } = asker.stream;
  if (set === undefined || of.base === undefined || asker.refusesBatches) return [];
  const request = batchRequest(of.base, requests, set.version);
  // the connector's rules are for single responses
  const plain = { ...of, fails: [] };
  try {
    return await asker.send(
      request,
      plain,
      ({ body, headers }) => batchResponses(body, headers["content-type"] ?? "", requests.length),
      where,
    );
  } catch (error) {
    if (!isBridgeError(error, "REQUEST_REFUSED") && !isBridgeError(error, "NOT_FOUND")) throw error;
    asker.refusesBatches = true;
    asker.notice(`The service takes no batches (${error.message}): each record is asked for alone.`);
    return [];
  }
}

function pageOf(
  asker: Asker,
  of: CompiledRequest,
  { url }: ApiRequest,
  response: BatchedResponse | undefined,
): PageRead | "gone" | undefined {
  if (response === undefined) return undefined;
  if (response.status === 404 || response.status === 410) return "gone";
  if (response.status !== 200) return undefined;
  try {
    return asker.read({ ...response, url }, of);
  } catch {
    // asked for alone, it is tried again, or tells what is wrong with it
    return undefined;
  }
}
