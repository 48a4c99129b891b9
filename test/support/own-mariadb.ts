/** A MariaDB server of the tests' own, where the machine has its programs: its files lie in a temporary folder. */

import { execFile, spawn } from "node:child_process";
import { once } from "node:events";
import { existsSync, mkdtempSync, rmSync } from "node:fs";
import { tmpdir, userInfo } from "node:os";
import { join } from "node:path";
import { promisify } from "node:util";
import mysql from "mysql2/promise";
import { freePort } from "./free-port.js";

export interface OwnMariadb {
  /** for a user who may do everything */
  readonly url: string;
  readonly stop: () => Promise<void>;
}

/** Where Linux distributions put a server's programs. */
const FOLDERS = ["/usr/sbin", "/usr/bin", "/usr/local/sbin", "/usr/local/bin"];

function program(name: string): string {
  const found = FOLDERS.map((folder) => join(folder, name)).find((path) => existsSync(path));
  if (found === undefined) throw new Error(`${name} is not installed`);
  return found;
}

/** Makes the server's files and starts it. */
export async function startMariadb(more: readonly string[] = []): Promise<OwnMariadb> {
  const [install, serve] = [program("mariadb-install-db"), program("mariadbd")];
  const folder = mkdtempSync(join(tmpdir(), "early-bridge-mariadb-"));
  const common = [
    "--no-defaults",
    `--user=${userInfo().username}`,
    `--datadir=${join(folder, "data")}`,
    // a server that starts, if only to make its files, takes away what others have in the same place
    `--tmpdir=${folder}`,
  ];
  await promisify(execFile)(install, [
    ...common,
    "--auth-root-authentication-method=normal",
    "--skip-test-db",
  ]);
  const port = await freePort();
  const server = spawn(
    serve,
    [
      ...common,
      `--port=${port}`,
      "--bind-address=127.0.0.1",
      `--socket=${join(folder, "socket")}`,
      "--skip-name-resolve",
      "--max-connections=500",
      // a test need not outlive its machine
      ...["--innodb-flush-log-at-trx-commit=0", "--innodb-doublewrite=0", "--sync-frm=0"],
      ...more,
    ],
    { stdio: "ignore" },
  );
  const ended = once(server, "exit");
  const url = `mariadb://root@127.0.0.1:${port}`;
  for (;;) {
    const connection = await mysql
      .createConnection({ host: "127.0.0.1", port, user: "root" })
      .catch(() => undefined);
    await connection?.end();
    if (connection !== undefined) break;
    if (server.exitCode !== null) throw new Error(`mariadbd ended with ${server.exitCode}`);
    await new Promise((resolve) => setTimeout(resolve, 50));
  }
  return {
    url,
    stop: async () => {
      server.kill();
      await ended;
      rmSync(folder, { recursive: true, force: true });
    },
  };
}
