import { describe, expect, it } from "vitest";
import { windowsSchema } from "../define/parts-schema.js";
import { describeCursors } from "./part-progress.js";

const day = (date: string) => Date.parse(date);
const NOW = day("2026-11-01");

describe("where a stream stands", () => {
  it.each([
    ["is that of its part furthest behind", [{ value: "10" }, { value: "9" }], "9"],
    [
      "is the earliest time",
      [{ value: "2026-10-02T00:00:00Z" }, { value: "2026-10-01T12:00:00Z" }],
      "2026-10-01T12:00:00Z",
    ],
    ["is told as parts while some have not got anywhere", [{ value: "10" }, undefined, {}], "1 of 3 parts"],
    ["is not told where none has", [undefined, {}], undefined],
  ])("%s", (_how, cursors, text) => {
    expect(describeCursors(cursors, undefined, NOW)).toBe(text);
  });

  const windows = windowsSchema.parse({ span: "P1D", start: "2026-10-01" });
  it.each<[string, [string, string][], string | undefined]>([
    ["without gaps", [["2026-10-01", "2026-10-20"]], "2026-10-20T00:00:00Z"],
    [
      "with gaps",
      [
        ["2026-10-01", "2026-10-03"],
        ["2026-10-05", "2026-10-20"],
      ],
      "2026-10-03T00:00:00Z",
    ],
    ["of the newest only", [["2026-10-25", "2026-11-01"]], undefined],
  ])("in windows %s is the end of what is done from the beginning", (_how, done, text) => {
    const covered = done.map(([from, to]) => [day(from), day(to)] as const);
    expect(describeCursors([{ covered }], windows, NOW)).toBe(text);
  });
});
