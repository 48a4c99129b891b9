/** What --json prints, line by line: each is as the schema says. */

import { expect } from "vitest";
import type { z } from "zod";
import { outputLine } from "../../src/cli/output-schema.js";

export type OutputLine = z.output<typeof outputLine>;

export function outputLines(stdout: string): OutputLine[] {
  return stdout
    .trim()
    .split("\n")
    .map((text) => {
      const line = outputLine.safeParse(JSON.parse(text));
      expect(line.error?.issues, text).toBeUndefined();
      return line.data as OutputLine;
    });
}
