/** Projects in temporary folders, the command line as a process, and services to talk to. */

import { type ChildProcess, spawn } from "node:child_process";
import { cpSync, mkdtempSync, readFileSync, rmSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join, resolve } from "node:path";
import {
  type BookingsOptions,
  type BookingsService,
  demoEnvironment,
  envFileText,
  startBookings,
} from "../../src/standins/index.js";
import { whenDone } from "./when-done.js";

export function temporaryFolder(): string {
  const folder = mkdtempSync(join(tmpdir(), "early-bridge-"));
  whenDone(() => rmSync(folder, { recursive: true, force: true }));
  return folder;
}

/** A bookings service for one test. */
export async function bookingsService(options: BookingsOptions = {}): Promise<BookingsService> {
  const service = await startBookings({ perSecond: null, ...options });
  whenDone(() => service.close());
  return service;
}

export interface TestProject {
  readonly folder: string;
  readonly database: string;
  /** replaces text in one of the project's files; the text must be there */
  edit(
    file: "bridges.yaml" | ".env" | "connectors/bookings.connector.yaml",
    from: string | RegExp,
    to: string,
  ): void;
}

/** The demo's project, pointed at a service, or at all of them. */
const NO_NEIGHBOURS = "http://127.0.0.1:9";

export function demoProject(url: string, neighboursUrl = NO_NEIGHBOURS): TestProject {
  const folder = temporaryFolder();
  cpSync("demo", folder, { recursive: true });
  const path = join(folder, "bridges.yaml");
  // without the other services there is one bridge only
  if (neighboursUrl === NO_NEIGHBOURS)
    writeFileSync(path, readFileSync(path, "utf8").split("  sensors: { from")[0]!);
  writeFileSync(join(folder, ".env"), envFileText(demoEnvironment(url, neighboursUrl)), { mode: 0o600 });
  return {
    folder,
    database: join(folder, "huts.duckdb"),
    edit(file, from, to) {
      const path = join(folder, file);
      const before = readFileSync(path, "utf8");
      const after = before.replace(from, to);
      if (after === before) throw new Error(`${file} does not hold ${from}`);
      writeFileSync(path, after);
    },
  };
}

export interface CommandResult {
  readonly code: number | null;
  readonly stdout: string;
  readonly stderr: string;
}

export interface RunningCommand {
  readonly child: ChildProcess;
  readonly ended: Promise<CommandResult>;
  /** all output so far */
  output(): string;
}

/** Starts the command line as users do; the working folder is the project's. */
export function startCommand(
  args: readonly string[],
  folder: string,
  env: NodeJS.ProcessEnv = {},
  user: { readonly uid?: number; readonly gid?: number } = {},
): RunningCommand {
  const main = resolve("dist/cli/main.js");
  const child = spawn(process.execPath, [main, ...args], {
    cwd: folder,
    env: { ...process.env, NO_COLOR: "1", ...env },
    stdio: ["ignore", "pipe", "pipe"],
    ...user,
  });
  let stdout = "";
  let stderr = "";
  child.stdout?.on("data", (data) => {
    stdout += String(data);
  });
  child.stderr?.on("data", (data) => {
    stderr += String(data);
  });
  const ended = new Promise<CommandResult>((done) =>
    child.once("close", (code) => done({ code, stdout, stderr })),
  );
  return { child, ended, output: () => stdout + stderr };
}

export function command(
  args: readonly string[],
  folder: string,
  env?: NodeJS.ProcessEnv,
  user?: { readonly uid?: number; readonly gid?: number },
): Promise<CommandResult> {
  return startCommand(args, folder, env, user).ended;
}
