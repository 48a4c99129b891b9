import { stripVTControlCharacters } from "node:util";
import { describe, expect, it } from "vitest";
import { tableText } from "./table.js";

const COLUMNS = [
  { title: "run" },
  { title: "started", leaves: 2 },
  { title: "added", right: true },
  { title: "retries", right: true, leaves: 1 },
];
const ROWS = [
  ["7", "2026-03-01", "20,000", "0"],
  ["12", "2026-03-02", "1", "300"],
];

const lines = (width: number) => stripVTControlCharacters(tableText(COLUMNS, ROWS, width)).split("\n");

describe("a table", () => {
  it("is as wide as its columns, numbers to the right", () => {
    expect(lines(80)).toEqual([
      "  run  started      added  retries",
      "  7    2026-03-01  20,000        0",
      "  12   2026-03-02       1      300",
    ]);
  });

  it("leaves columns out where the terminal is too narrow, the least important first", () => {
    const heads = [80, 34, 33, 25, 24, 5].map((width) => lines(width)[0]!.trim());
    expect(heads.map((head) => head.split(/ +/))).toEqual([
      ["run", "started", "added", "retries"],
      ["run", "started", "added", "retries"],
      ["run", "started", "added"],
      ["run", "started", "added"],
      ["run", "added"],
      ["run", "added"],
    ]);
  });
});
