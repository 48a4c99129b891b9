/** A MariaDB or MySQL server of the tests' own, where its programs are: its files are in a temporary folder. */

import { execFile, spawn } from "node:child_process";
import { once } from "node:events";
import { existsSync, mkdtempSync, rmSync, writeFileSync } from "node:fs";
import { tmpdir, userInfo } from "node:os";
import { delimiter, join } from "node:path";
import { promisify } from "node:util";
import mysql from "mysql2/promise";
import { freePort } from "./free-port.js";

export interface OwnServer {
  /** for a user who may do everything */
  readonly url: string;
  readonly stop: () => Promise<void>;
}

/** Where a server's programs are: in the path, and where Linux distributions put them. */
const folders = () => [
  ...(process.env.PATH ?? "").split(delimiter),
  ...["/usr/sbin", "/usr/bin", "/usr/local/sbin", "/usr/local/bin"],
];

const run = promisify(execFile);

/** @param is what it says of its version; one make's program may have the name of the other's */
async function program(name: string, is = /./): Promise<string> {
  for (const folder of folders()) {
    const path = join(folder, name);
    if (existsSync(path) && is.test((await run(path, ["--no-defaults", "--version"])).stdout)) return path;
  }
  throw new Error(`${name} is not installed`);
}

/** How a make of server is started. */
interface Make {
  readonly scheme: string;
  program(): Promise<string>;
  /** makes the server's files, for an administrator without a password */
  makeFiles(program: string, common: readonly string[]): Promise<unknown>;
  /** settings beside those of all makes */
  readonly more: readonly string[];
}

const MARIADB: Make = {
  scheme: "mariadb",
  program: () => program("mariadbd"),
  makeFiles: async (_, common) =>
    run(await program("mariadb-install-db"), [
      ...common,
      "--auth-root-authentication-method=normal",
      "--skip-test-db",
    ]),
  more: ["--sync-frm=0"],
};

const MYSQL: Make = {
  scheme: "mysql",
  program: () => program("mysqld", /^(?!.*MariaDB)/),
  makeFiles: (serve, common) => run(serve, [...common, "--initialize-insecure"]),
  more: ["--mysqlx=OFF", "--skip-log-bin", "--performance-schema=OFF", "--local-infile=ON"],
};

export const startMariadb = (more: readonly string[] = []) => startServer(MARIADB, more);

export const startMysql = (more: readonly string[] = []) => startServer(MYSQL, more);

/** Makes the server's files and starts it. */
async function startServer(make: Make, more: readonly string[]): Promise<OwnServer> {
  const serve = await make.program();
  const folder = mkdtempSync(join(tmpdir(), `early-bridge-${make.scheme}-`));
  const common = [
    "--no-defaults",
    `--user=${userInfo().username}`,
    `--datadir=${join(folder, "data")}`,
    // a server that starts, if only to make its files, takes away what others have in the same place
    `--tmpdir=${folder}`,
    `--secure-file-priv=${folder}`,
  ];
  await make.makeFiles(serve, common);
  const first = join(folder, "first.sql");
  writeFileSync(
    first,
    "CREATE USER IF NOT EXISTS root@'127.0.0.1'; GRANT ALL ON *.* TO root@'127.0.0.1' WITH GRANT OPTION;",
  );
  const port = await freePort();
  const server = spawn(
    serve,
    [
      ...common,
      `--port=${port}`,
      "--bind-address=127.0.0.1",
      `--socket=${join(folder, "socket")}`,
      `--pid-file=${join(folder, "pid")}`,
      `--init-file=${first}`,
      "--skip-name-resolve",
      "--max-connections=500",
      // a test need not outlive its machine
      ...["--innodb-flush-log-at-trx-commit=0", "--innodb-doublewrite=0"],
      ...make.more,
      ...more,
    ],
    { stdio: "ignore" },
  );
  const ended = once(server, "exit");
  const url = `${make.scheme}://root@127.0.0.1:${port}`;
  for (;;) {
    const connection = await mysql
      .createConnection({ host: "127.0.0.1", port, user: "root" })
      .catch((error: NodeJS.ErrnoException) => {
        // whom it does not let in now it never lets in
        if (error.code?.startsWith("ER_")) throw error;
      });
    await connection?.end();
    if (connection !== undefined) break;
    if (server.exitCode !== null) throw new Error(`${serve} ended with ${server.exitCode}`);
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
