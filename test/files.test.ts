/** Files and disks that refuse: each command says which file, why, and what to do; none calls it a fault of its own. */

import { chmodSync, mkdirSync, readFileSync, rmSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { describe, expect, it } from "vitest";
import { bookingsService, command, demoProject, type TestProject } from "./support/project.js";

/** Puts a folder, or a file, in the place of what is there. */
const folderAt = (path: string) => {
  rmSync(path, { recursive: true, force: true });
  mkdirSync(path, { mode: 0o700 });
};
const fileAt = (path: string) => {
  rmSync(path, { recursive: true, force: true });
  writeFileSync(path, "");
};

interface Refusal {
  readonly args: readonly string[];
  readonly make?: (project: TestProject) => void;
  readonly env?: NodeJS.ProcessEnv;
  readonly exit: number;
  readonly says: readonly string[];
}

const REFUSALS: Readonly<Record<string, Refusal>> = {
  "init below a file": {
    args: ["init", "--yes", "--project", ".env/new"],
    exit: 2,
    says: ["FILE_FAILED", ".env/new/bridges.yaml cannot be used: a part of its path is no folder"],
  },
  "init where its connectors' folder is a file": {
    args: ["init", "--yes", "--name", "other"],
    make: ({ folder }) => fileAt(join(folder, "connectors")),
    exit: 2,
    says: ["FILE_FAILED", "connectors"],
  },
  "plan with a folder for bridges.yaml": {
    args: ["plan"],
    make: ({ folder }) => folderAt(join(folder, "bridges.yaml")),
    exit: 2,
    says: ["FILE_FAILED", "bridges.yaml cannot be used: it is a folder"],
  },
  "probe with a folder for the connector": {
    args: ["probe", "bookings"],
    make: ({ folder }) => folderAt(join(folder, "connectors/bookings.connector.yaml")),
    exit: 2,
    says: ["FILE_FAILED", "bookings.connector.yaml cannot be used: it is a folder"],
  },
  "run with a folder for .env": {
    args: ["run"],
    make: ({ folder }) => folderAt(join(folder, ".env")),
    exit: 2,
    says: ["FILE_FAILED", ".env cannot be used: it is a folder"],
  },
  "run into a folder": {
    args: ["run", "--plain"],
    make: ({ database }) => folderAt(database),
    exit: 6,
    says: ["WAREHOUSE_UNREACHABLE", "Is a directory"],
  },
  "run with a recording on a full disk": {
    args: ["run", "--record", "/dev/full"],
    exit: 2,
    says: ["FILE_UNWRITABLE", "no space left"],
  },
  "run with a recording in no folder": {
    args: ["run", "--record", "no/such.har"],
    exit: 2,
    says: ["FILE_UNWRITABLE", "no/such.har"],
  },
  "run from a recording that is a folder": {
    args: ["run", "--replay", "connectors"],
    exit: 2,
    says: ["FILE_UNREADABLE", "connectors"],
  },
  "history of a folder": {
    args: ["history"],
    make: ({ database }) => folderAt(database),
    exit: 6,
    says: ["WAREHOUSE_UNREACHABLE"],
  },
  "login with tokens below a file": {
    args: ["login", "--status"],
    env: { EARLY_BRIDGE_CONFIG: "bridges.yaml/tokens" },
    exit: 2,
    says: ["FILE_FAILED", "a part of its path is no folder"],
  },
  "demo where its folder is a file": {
    args: ["demo", "--bookings", "10"],
    make: ({ folder }) => fileAt(join(folder, "early-bridge-demo")),
    exit: 2,
    says: ["FILE_FAILED", "early-bridge-demo cannot be used: it is there already"],
  },
  "a log in no folder": {
    args: ["plan", "--log", "no/such.log"],
    exit: 2,
    says: ["FILE_UNWRITABLE", "no/such.log cannot be used: it is not there"],
  },
};

describe("files that refuse", () => {
  it.each(Object.keys(REFUSALS))("%s", async (name) => {
    const { args, make, env, exit, says } = REFUSALS[name]!;
    const project = demoProject((await bookingsService({ bookings: 30 })).url);
    make?.(project);
    const { code, stderr, stdout } = await command(args, project.folder, env);
    for (const text of says) expect(stdout + stderr).toContain(text);
    expect(stdout + stderr).not.toContain("INTERNAL");
    expect(code).toBe(exit);
  });

  it("by their permissions are named, where this user has fewer than all", async () => {
    const { folder, database } = demoProject((await bookingsService({ bookings: 30 })).url);
    // a user with all permissions is refused nothing: another one then asks
    const user = process.getuid?.() === 0 ? { uid: 65_534, gid: 65_534 } : {};
    for (const file of [folder, ...["bridges.yaml", "connectors"].map((each) => join(folder, each))])
      chmodSync(file, 0o755);
    chmodSync(join(folder, "bridges.yaml"), 0o000);
    const refused = await command(["plan"], folder, {}, user);
    // where nobody else may come to the program itself, it cannot even begin
    if (refused.code === 1 && /EACCES|Cannot find module/.test(refused.stderr)) return;
    expect(refused.stderr).toContain("bridges.yaml cannot be used: permission is denied");
    expect(refused.code).toBe(2);
    expect(() => readFileSync(database)).toThrow();
  });
});

describe("a log", () => {
  it("holds what a command did, line by line, behind what was there", async () => {
    const service = await bookingsService({ bookings: 30 });
    const project = demoProject(service.url);
    const path = join(project.folder, "early-bridge.log");
    const lines = () =>
      readFileSync(path, "utf8")
        .trim()
        .split("\n")
        .map((line) => JSON.parse(line) as Record<string, unknown>);
    await command(["run", "--log", path], project.folder);
    const first = lines();
    expect(first.map(({ type }) => type)).toEqual(
      expect.arrayContaining([
        "command_started",
        "run_started",
        "page",
        "checkpoint",
        "run_ended",
        "command_ended",
      ]),
    );
    expect(first.at(-1)).toMatchObject({ level: "info", exit_code: 0, time: expect.stringMatching(/Z$/) });
    expect(first.find(({ type }) => type === "checkpoint")).toMatchObject({ run: 1, bridge: "bookings" });
    project.edit("connectors/bookings.connector.yaml", "get: /huts", "get: /hutz");
    await command(["run", "--log", path], project.folder);
    const second = lines().slice(first.length);
    const error = { code: "NOT_FOUND", kind: "api" };
    expect(second).toContainEqual(expect.objectContaining({ type: "run_ended", level: "error" }));
    expect(second.find(({ type }) => type === "run_ended")).toMatchObject({ run: 2, error });
    await command(["run", "nope", "--log", path], project.folder);
    expect(lines().at(-2)).toMatchObject({ level: "error", error: { code: "CONFIG_UNKNOWN_NAME" } });
  });

  it("that finds no space is told of once, and the run goes on", async () => {
    const project = demoProject((await bookingsService({ bookings: 30 })).url);
    const { code, stderr } = await command(["run", "--log", "/dev/full"], project.folder);
    expect(stderr.trim()).toBe(
      "The log is not written any further: /dev/full cannot be used: no space is left.",
    );
    expect(code).toBe(0);
  });
});
