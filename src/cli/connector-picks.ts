/** Writes what was picked into a connector file; all else in it stands as it stood, comments and order. */

import { readFile, writeFile } from "node:fs/promises";
import { resolve } from "node:path";
import { type Document, isMap, isNode, isSeq, parseDocument } from "yaml";
import type { DraftStream } from "../core/draft/draft.js";
import { streamLines } from "../core/draft/draft-text.js";
import { BridgeError } from "../core/errors.js";
import type { OpenedProject } from "../node/project.js";

/** What became of each name, and how many the file has now. */
export interface Picked {
  readonly path: string;
  readonly added: readonly string[];
  readonly total: number;
}

/** Adds sets of an OData service to `odata.sets`. */
export async function pickSets(
  project: OpenedProject,
  account: string,
  picks: readonly string[],
): Promise<Picked> {
  const { path, file, text, document } = await connectorFile(project, account);
  if (!document.hasIn(["odata"]))
    throw new BridgeError("CONFIG_INVALID", `${path} has no odata.`, { where: { file: path } });
  const sets = document.getIn(["odata", "sets"]);
  const known = isSeq(sets) ? sets.toJSON().map(String) : [];
  const streams = (document.toJSON() as { streams?: Record<string, { set?: string }> }).streams ?? {};
  const own = Object.values(streams).flatMap(({ set }) => set ?? []);
  const added = picks.filter((each) => !known.includes(each) && !own.includes(each));
  if (added.length > 0) await writeFile(file, withSets(text, document, [...known, ...added]));
  return { path, added, total: new Set([...known, ...added, ...own]).size };
}

/** Adds streams, each with the comments of its draft, behind those that are there. */
export async function pickStreams(
  project: OpenedProject,
  account: string,
  picks: readonly DraftStream[],
): Promise<Picked> {
  const { path, file, text, document } = await connectorFile(project, account);
  const known = Object.keys((document.toJSON() as { streams?: object }).streams ?? {});
  const added = picks.filter(({ name }) => !known.includes(name));
  if (added.length > 0) await writeFile(file, withStreams(path, text, document, added));
  return { path, added: added.map(({ name }) => name), total: known.length + added.length };
}

async function connectorFile(project: OpenedProject, account: string) {
  const path = project.definition.accounts[account]!.connector;
  const file = resolve(project.folder, path);
  const text = await readFile(file, "utf8");
  return { path, file, text, document: parseDocument(text) };
}

function withStreams(
  path: string,
  text: string,
  document: Document,
  streams: readonly DraftStream[],
): string {
  const lines = streams.flatMap(streamLines).join("\n");
  const there = document.get("streams", true);
  if (there === undefined || there === null) return `${text.trimEnd()}\nstreams:\n${lines}\n`;
  if (!isMap(there) || !there.range || there.flow === true)
    throw new BridgeError("CONFIG_INVALID", `The streams of ${path} stand on one line.`, {
      where: { file: path },
      hint: "Write each on a line of its own: then others can be added.",
    });
  const end = there.range[1];
  const before = text.slice(0, end).trimEnd();
  return `${before}\n${lines}\n${text.slice(end).replace(/^\n/, "")}`;
}

/** The text with the list of sets in it; all else stands as it stood, to the last blank. */
function withSets(text: string, document: Document, names: readonly string[]): string {
  const list = `[${names.map((name) => (/^[A-Za-z]\w*$/.test(name) ? name : JSON.stringify(name))).join(", ")}]`;
  const put = (from: number, to: number, what: string) => text.slice(0, from) + what + text.slice(to);
  const sets = document.getIn(["odata", "sets"], true);
  if (isNode(sets) && sets.range) return put(sets.range[0], sets.range[1], list);
  const odata = document.get("odata", true);
  if (!isMap(odata) || !odata.range) throw new BridgeError("INTERNAL", "odata is no map");
  const [from, to] = odata.range;
  const inside = text.slice(from + 1, to - 1).trim();
  if (odata.flow === true) return put(from, to, `{ sets: ${list}${inside === "" ? "" : `, ${inside}`} }`);
  const indent = from - text.lastIndexOf("\n", from) - 1;
  return put(from, from, `sets: ${list}\n${" ".repeat(indent)}`);
}
