/** Reports: submitted, looked at with growing waits until they are done, then downloaded. */

import type { Part } from "../../core/ask/parts.js";
import { planRequest } from "../../core/ask/request-plan.js";
import { BridgeError, isBridgeError, typeName, type Where } from "../../core/errors.js";
import { durationMs } from "../../core/language/duration.js";
import type { TemplateValues } from "../../core/language/template.js";
import type { CompiledReport, CompiledRequest } from "../../core/stream/compile-stream.js";
import { hostOf, type Network } from "../ports.js";
import type { AskedPage, Asker } from "./asker.js";

/** A report that fails or expires is submitted anew, this often at most. */
const MOST_SUBMITS = 3;
/** Each look waits longer than the one before it. */
const WAIT_GROWTH = 1.5;

interface FinishedReport {
  readonly id: string;
  readonly link: string | undefined;
}

/** @throws BridgeError REPORT_FAILED and what a request throws */
export async function fetchReport(
  asker: Asker,
  report: CompiledReport,
  part: Part,
  values: TemplateValues,
): Promise<AskedPage> {
  for (let submits = 1; ; submits++) {
    const id = await submit(asker, report, part, values);
    const finished = await waitUntilDone(asker, report, id, part, values);
    if (finished !== undefined) {
      try {
        return await download(asker, report, finished, part, values);
      } catch (error) {
        // it was there a moment ago: a report is kept for a while only
        if (!isBridgeError(error, "NOT_FOUND") || submits >= MOST_SUBMITS) throw error;
      }
    }
    if (submits >= MOST_SUBMITS)
      throw new BridgeError(
        "REPORT_FAILED",
        `The report expired ${submits} times before it could be fetched.`,
        { where: asker.where(part) },
      );
    asker.notice("The report has expired: it is submitted anew.");
  }
}

/** Undefined when it has to be submitted anew. */
async function waitUntilDone(
  asker: Asker,
  report: CompiledReport,
  id: string,
  part: Part,
  values: TemplateValues,
): Promise<FinishedReport | undefined> {
  const { poll, resubmit_states: again } = report.definition;
  const { clock } = asker.shared;
  const where = asker.where(part);
  const from = clock.now();
  const longestMs = durationMs(poll.longest);
  const giveUpMs = durationMs(poll.give_up);
  for (let waitMs = durationMs(poll.wait); ; waitMs = Math.min(longestMs, waitMs * WAIT_GROWTH)) {
    await asker.wait(waitMs);
    const [state, link] = await askValues(asker, report.poll, part, { ...values, report_id: id });
    if (state === undefined)
      throw new BridgeError("RECORDS_NOT_FOUND", `Nothing is at report.poll.state: ${poll.state}.`, {
        where,
        hint: "Correct report.poll.state of the stream.",
      });
    if (poll.done.some((each) => each === state))
      return { id, link: link === undefined ? undefined : String(link) };
    if (again.some((each) => each === state)) return undefined;
    if (poll.failed.some((each) => each === state))
      throw new BridgeError("REPORT_FAILED", `The report ${id} ended as ${String(state)}.`, { where });
    if (clock.now() - from >= giveUpMs)
      throw new BridgeError(
        "REPORT_FAILED",
        `The report ${id} is not done after ${poll.give_up}: it is ${String(state)}.`,
        {
          where,
          hint: "Raise poll.give_up, or check that poll.done names the state in which a report is ready.",
        },
      );
  }
}

async function download(
  asker: Asker,
  report: CompiledReport,
  finished: FinishedReport,
  part: Part,
  values: TemplateValues,
): Promise<AskedPage> {
  const { account, headers } = asker.shared;
  const { request: of } = asker.stream;
  const where = asker.where(part);
  const asked = report.definition.download;
  const template = { get: asked.get ?? "/", query: {}, headers: {}, safe_to_retry: false };
  const link = asked.link === true ? absoluteLink(finished.link, account.baseUrl, where) : undefined;
  const planned = planRequest(
    account.baseUrl,
    template,
    headers,
    { ...values, report_id: finished.id },
    {},
    link,
  );
  // credentials go to the API's own origins only, by the signer; its other headers stay at home as well
  const own = account.origins.includes(new URL(planned.url).origin);
  // an API that is in a private network itself gains nothing by such an address
  const { network } = asker.shared;
  if (!own && !(await network.isPrivate(hostOf(account.baseUrl))))
    await checkPublic(network, planned.url, where);
  const request = own ? planned : { ...planned, headers: { "user-agent": headers["user-agent"] ?? "" } };
  return asker.send(request, of, (response) => asker.read(response, of), where);
}

/**
 * A file at another origin must be in the open network: an address that an API names could else lead to machines which
 * only this one can reach.
 * @throws BridgeError LINK_NOT_OURS
 */
async function checkPublic(network: Network, url: string, where: Where): Promise<void> {
  if (!(await network.isPrivate(hostOf(url)))) return;
  const message = `The report's file is at ${new URL(url).origin}, in a private network.`;
  throw new BridgeError("LINK_NOT_OURS", message, { where });
}

function absoluteLink(link: string | undefined, base: string, where: object): string {
  if (link === undefined || !URL.canParse(link, `${base}/`))
    throw new BridgeError("REPORT_FAILED", "The report is done, and nothing is at poll.link.", { where });
  return new URL(link, `${base}/`).href;
}

async function submit(
  asker: Asker,
  report: CompiledReport,
  part: Part,
  values: TemplateValues,
): Promise<string> {
  const [id] = await askValues(asker, report.submit, part, values);
  if (typeof id === "string" || typeof id === "number" || typeof id === "bigint") return String(id);
  const message = `No id is at report.submit.id: ${report.definition.submit.id}; seen ${typeName(id)}.`;
  throw new BridgeError("RECORDS_NOT_FOUND", message, {
    where: asker.where(part),
    hint: "Correct report.submit.id of the stream.",
  });
}

/** The values of one response, in the order of their paths. */
async function askValues(
  asker: Asker,
  of: CompiledRequest,
  part: Part,
  values: TemplateValues,
): Promise<unknown[]> {
  const { body } = await asker.page(of, { at: "start" }, values, {}, asker.where(part), undefined);
  return of.plan.records.map((path) => path.first(body));
}
