/** A run of tests of which some have failed ends as one that has failed. */

import { spawnSync } from "node:child_process";
import { expect, it } from "vitest";

const exitCode = (imported: string, code: number) =>
  spawnSync(process.execPath, [
    "--input-type=module",
    "-e",
    `import "${imported}"; process.exitCode = ${code};`,
  ]).status;

it("keeps its exit code when the tests' own PostgreSQL server was loaded", () => {
  expect(exitCode("./test/support/embedded-postgres.mjs", 3)).toBe(3);
  expect(exitCode("./test/support/embedded-postgres.mjs", 0)).toBe(0);
});
