/** A disk that fills up: a limit on the size of files, which the kernel treats alike. */

import { execFile } from "node:child_process";
import { existsSync, mkdtempSync, readdirSync, rmSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { promisify } from "node:util";
import { expect, it } from "vitest";

it("tells of a file that has no room for all of its rows, and leaves nothing of it", async () => {
  const folder = mkdtempSync(join(tmpdir(), "early-bridge-stage-folder-"));
  const code = `
    import { connect, defineConnector, openBridge } from "./dist/index.js";
    import { duckdb } from "./dist/warehouse/duckdb/index.js";
    import { createServer } from "node:http";
    // the process is to live on
    process.on("SIGXFSZ", () => {});
    const huts = Array.from({ length: 20_000 }, (_, id) => ({ id, name: "Hut ".repeat(60) + id }));
    const server = createServer((_, response) => response.end(JSON.stringify(huts)));
    await new Promise((ready) => server.listen(0, "127.0.0.1", ready));
    const api = { url: "http://127.0.0.1:" + server.address().port, sign_in: "none" };
    const connector = defineConnector({ connector: "huts", api, streams: { huts: { get: "/huts", key: "id" } } });
    const bridge = await openBridge({ from: connect(connector, {}), to: duckdb(process.argv[1]) });
    const { outcome, error } = await bridge.run();
    console.log(JSON.stringify({ outcome, code: error?.code, message: error?.message }));
    process.exit();`;
  // somewhat less than what has to wait, in units of 1024 bytes
  const limited = 'ulimit -f 3000; exec "$0" --input-type=module -e "$1" "$2"';
  const file = join(folder, "huts.duckdb");
  try {
    const { stdout } = await promisify(execFile)("bash", ["-c", limited, process.execPath, code, file]);
    const report = JSON.parse(stdout);
    expect(report).toMatchObject({ code: "FILE_UNWRITABLE" });
    expect(report.message).toMatch(/^Rows cannot be kept in the folder .*: it is full\.$/);
    const waiting = join(folder, ".early-bridge-temporary");
    expect(existsSync(waiting) ? readdirSync(waiting) : []).toEqual([]);
  } finally {
    rmSync(folder, { recursive: true });
  }
});
