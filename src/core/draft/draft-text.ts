/** A draft as a connector file: every guess with what speaks for it, and what was not found out. */

import { stringify } from "yaml";
import type { Draft, DraftStream } from "./draft.js";

/** Width of a line up to its comment. */
const COMMENT_COLUMN = 64;
const MOST_WIDTH = 120;

/** The YAML of a draft, with the reason of each guess beside its line. */
export function draftText(draft: Draft): string {
  const lines = [
    "# yaml-language-server: $schema=../node_modules/early-bridge/schemas/connector.schema.json",
    ...draft.said.map((each) => `# ${each}`),
    `connector: ${draft.name}`,
    "version: 0.1.0",
    "settings: # what an account fills in",
    "  base: { type: string, format: uri }",
    ...draft.settings.map((line) => `  ${line}`),
    "api:",
    `  url: ${JSON.stringify(`{+base}${draft.path}`)}`,
    commented(`  sign_in: ${draft.signIn.value}`, draft.signIn.why),
    commented(`  rate_limit: ${flow(draft.rateLimit.value)}`, draft.rateLimit.why),
    ...(draft.odata === undefined ? [] : [commented(`odata: ${flow(draft.odata.value)}`, draft.odata.why)]),
    ...(draft.streams.length === 0 ? [] : ["streams:", ...draft.streams.flatMap(streamLines)]),
  ];
  return `${lines.join("\n")}\n`;
}

/** The lines of one stream under `streams:`. */
export function streamLines(stream: DraftStream): string[] {
  const {
    name,
    description,
    get,
    post,
    set,
    query,
    records,
    response,
    pages,
    key,
    cursor,
    each,
    add,
    columns,
    open,
  } = stream;
  const line = (text: string, why?: string) => commented(`    ${text}`, why);
  return [
    `  ${name}:${description === undefined ? "" : ` # ${oneLine(description)}`}`,
    ...(get === undefined ? [] : [line(`${post === undefined ? "get" : "post"}: ${flow(get)}`)]),
    ...(post === undefined ? [] : [line("safe_to_retry: true", post.why), line(`body: ${flow(post.value)}`)]),
    ...(set === undefined ? [] : [line(`set: ${set}`)]),
    ...(query === undefined ? [] : [line(`query: ${flow(query.value)}`, query.why)]),
    ...(each === undefined ? [] : [line(`each: ${flow(each.value)}`, each.why)]),
    ...(response === undefined ? [] : [line(`response: ${flow(response.value)}`, response.why)]),
    ...(records === undefined ? [] : [line(`records: ${flow(records.value)}`, records.why)]),
    ...(pages === undefined ? [] : [line(`pages: ${flow(pages.value)}`, pages.why)]),
    ...(cursor === undefined ? [] : [line(`cursor: ${flow(cursor.value)}`, cursor.why)]),
    ...(key === undefined
      ? []
      : [line(`key: ${flow(key.value.length === 1 ? key.value[0] : key.value)}`, key.why)]),
    ...(add === undefined ? [] : [line(`add: ${flow(add.value)}`, add.why)]),
    ...columnLines(columns),
    ...open.map((each) => `    # not found out: ${oneLine(each)}`),
  ];
}

/** A type that is only guessed would send what does not fit it to quarantine: it stands there to be chosen. */
function columnLines(columns: DraftStream["columns"]): string[] {
  if (columns.length === 0) return [];
  const lines = columns.map(
    ({ path, rule, why }) => `    #   ${flow(path)}: ${flow(rule)} # ${oneLine(why)}`,
  );
  return ["    # columns: # perhaps; as they come, they are text", ...lines];
}

/** A value on one line, as YAML has it. */
function flow(value: unknown): string {
  return stringify(value, { collectionStyle: "flow", lineWidth: 0, flowCollectionPadding: true }).trim();
}

function commented(line: string, why: string | undefined): string {
  if (why === undefined || why === "") return line;
  const text = oneLine(why);
  const padded = `${line.padEnd(COMMENT_COLUMN)} # ${text}`;
  if (padded.length <= MOST_WIDTH) return line.length > COMMENT_COLUMN ? `${line} # ${text}` : padded;
  // the comment goes above a line that has no room for it
  const indent = /^ */.exec(line)![0];
  return [...wrapped(text, MOST_WIDTH - indent.length - 2).map((each) => `${indent}# ${each}`), line].join(
    "\n",
  );
}

function wrapped(text: string, width: number): string[] {
  const lines: string[] = [];
  for (const word of text.split(" ")) {
    const last = lines.at(-1);
    if (last === undefined || last.length + 1 + word.length > width) lines.push(word);
    else lines[lines.length - 1] = `${last} ${word}`;
  }
  return lines;
}

function oneLine(text: string): string {
  return text.replaceAll(/\s+/g, " ").trim();
}
