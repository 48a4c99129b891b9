/** `rewind`: sets a stream's cursor back, after saying what will be asked for again. */

import colors from "picocolors";
import { BridgeError } from "../core/errors.js";
import { openProject } from "../node/project.js";
import { type Rewound, type RewoundPart, rewind } from "../run/rewind.js";
import { EXIT_CODES } from "./exit-codes.js";
import { countOf } from "./format.js";
import { jsonLine } from "./json-lines.js";

export interface RewindCommandOptions {
  readonly project: string;
  readonly to?: string | undefined;
  readonly until?: string | undefined;
  readonly part?: string | undefined;
  readonly anew?: boolean | undefined;
  readonly yes?: boolean | undefined;
  readonly json?: boolean | undefined;
}

/** Parts that are shown one by one. */
const MOST_PARTS = 8;

export async function rewindCommand(
  name: string,
  stream: string,
  { project: folder, yes, json, ...place }: RewindCommandOptions,
): Promise<number> {
  const project = await openProject(folder);
  const { bridge, api, close } = await project.openBridge(name);
  try {
    const options = { bridge, api, stream, ...place };
    const planned = await rewind({ ...options, apply: false });
    const isNothing = planned.parts.length === 0 && planned.dropped.length === 0;
    if (json !== true)
      say(isNothing ? `${stream} stands there already: nothing changes.` : told(planned, place.to));
    if (!isNothing) {
      if (yes !== true && !(await consented())) return EXIT_CODES.stopped;
      await rewind(options);
    }
    if (json === true) say(jsonLine("rewound", { bridge: name, ...planned }).trimEnd());
    else if (!isNothing) {
      const option = folder === "." ? "" : ` --project ${folder}`;
      say(`Done. Next: early-bridge run ${name} --stream ${stream}${option}`);
    }
    return EXIT_CODES.done;
  } finally {
    await close();
  }
}

function told({ parts, of, dropped, stream }: Rewound, to: string | undefined): string {
  const place = ({ part, before, after }: RewoundPart) =>
    `  ${part === "" ? stream : part}: from ${before ?? "its beginning"} back to ${after ?? "its beginning"}`;
  const more = parts.length > MOST_PARTS ? [`  and ${countOf(parts.length - MOST_PARTS, "more part")}`] : [];
  const which = of > 1 ? ` (${parts.length} of ${of} parts)` : "";
  const lines = [
    `${colors.bold(stream)} is set back${which}:`,
    ...parts.slice(0, MOST_PARTS).map(place),
    ...more,
  ];
  if (dropped.length > 0)
    return [
      ...(parts.length > 0 ? lines : [`${colors.bold(stream)} is begun anew:`]),
      `  dropped, with all their rows: ${colors.yellow(dropped.join(", "))}`,
      "The next run loads the stream as if it had never been.",
    ].join("\n");
  const again = to === undefined ? "all of it" : "all behind that";
  return [
    ...lines,
    `The next run asks for ${again} again; rows stay until what comes takes their places.`,
  ].join("\n");
}

/** @throws BridgeError USAGE where nobody can be asked */
async function consented(): Promise<boolean> {
  if (process.stdin.isTTY !== true || process.stdout.isTTY !== true)
    throw new BridgeError("USAGE", "Nobody is here to agree: this is no terminal.", {
      hint: "Look at what is said above, then add --yes.",
    });
  const { confirm, isCancel } = await import("@clack/prompts");
  const answer = await confirm({ message: "Set it back?", initialValue: false });
  return !isCancel(answer) && answer;
}

function say(text: string): void {
  process.stdout.write(`${text}\n`);
}
