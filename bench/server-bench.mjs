// What the benches of servers share: bookings served over HTTP, carried by us in a process of their own, and the table.
// BENCH_SHARE of the records (default 1).
import { fork } from "node:child_process";
import { mkdtempSync, rmSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { fileURLToPath } from "node:url";
import { writePages } from "./pages.mjs";
import { SETS } from "./sets.mjs";

export const RECORDS = Math.round(SETS.bookings.records * Number(process.env.BENCH_SHARE ?? 1));
export const TABLES = ["bookings", "bookings_guests"];

const here = (path) => fileURLToPath(new URL(path, import.meta.url));

/** Serves the bookings and gives `work` a folder, and what carries them into a kind of warehouse. */
export async function withBookings(kind, address, work) {
  const server = fork(here("./serve.mjs"), [writePages("bookings", RECORDS).folder]);
  const { url } = await new Promise((resolve) => server.once("message", resolve));
  const folder = mkdtempSync(join(tmpdir(), "early-bridge-bench-server-"));
  const carry = () => {
    const child = fork(here("./contenders/carry.mjs"), [kind, url, address]);
    return new Promise((resolve, reject) => {
      child.once("message", resolve);
      child.once("exit", (code) => reject(new Error(`it ended with ${code}`)));
    });
  };
  try {
    await work({ folder, carry });
  } finally {
    server.disconnect();
    rmSync(folder, { recursive: true, force: true });
  }
}

/** Seconds of some work. */
export async function timed(work) {
  const from = performance.now();
  await work();
  return (performance.now() - from) / 1000;
}

/** `rows`: what is compared, ours, and the seconds that the server alone takes. */
export function printRatios(title, rows) {
  console.log(
    `| ${title} | early-bridge, s | the server alone, s | how many times as fast | peak memory of ours |`,
  );
  console.log("| --- | ---: | ---: | ---: | ---: |");
  for (const [what, { seconds, peakMb }, other] of rows)
    console.log(
      `| ${what} | ${seconds.toFixed(2)} | ${other.toFixed(2)} | ${(other / seconds).toFixed(2)} | ${Math.round(peakMb)} MB |`,
    );
}
