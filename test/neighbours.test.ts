/** The demo's other accounts, through the real commands: probe, login, and what is said when they fail. */

import { readFileSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { describe, expect, it } from "vitest";
import { BOOKINGS_DEFAULTS, NEIGHBOURS_DEFAULTS, startNeighbours } from "../src/standins/index.js";
import { logIn } from "./support/log-in.js";
import { inLong } from "./support/long.js";
import { type OutputLine, outputLines } from "./support/output.js";
import { bookingsService, command, demoProject, type TestProject } from "./support/project.js";
import { proxyAnswering } from "./support/serve.js";
import { queryFile } from "./support/truth.js";
import { whenDone } from "./support/when-done.js";

/** The demo's project with every account filled in, and a config folder of its own. */
async function wholeProject(): Promise<{
  project: TestProject;
  env: NodeJS.ProcessEnv;
  log: readonly { path: string }[];
  url: string;
}> {
  const service = await bookingsService({ bookings: 30 });
  const neighbours = await startNeighbours();
  whenDone(() => neighbours.close());
  const project = demoProject(service.url, neighbours.url);
  writeFileSync(join(project.folder, "robot-key.json"), neighbours.robotKeyFile, { mode: 0o600 });
  return {
    project,
    env: { EARLY_BRIDGE_CONFIG: join(project.folder, "config"), EARLY_BRIDGE_KEY: "test key" },
    log: neighbours.log,
    url: neighbours.url,
  };
}

describe("probe", () => {
  inLong("finds every account of the demo well, whatever its sign-in", async () => {
    const { project, env, log } = await wholeProject();
    for (const account of ["logbook", "sensors", "stores", "north", "notices"]) {
      const { code, stdout } = await command(["probe", account], project.folder, env);
      expect(stdout, account).toMatch(
        /good {2}address[\s\S]*good {2}connection[\s\S]*good {2}sign-in[\s\S]*good {2}probe request[\s\S]*good {2}stream[\s\S]*All is well/,
      );
      expect(code).toBe(0);
    }
    // the session was ended at the API
    expect(log.at(-1)?.path).toBe("/notices/v1/logout");
  });

  inLong(
    "goes on to the warehouse for a bridge, speaks JSON, and ends with the worst line's code",
    async () => {
      const { project, env } = await wholeProject();
      const good = await command(["probe", "bookings", "--json"], project.folder, env);
      const lines = outputLines(good.stdout) as Extract<OutputLine, { type: "check" }>[];
      expect(lines.map(({ check, outcome }) => `${check}: ${outcome}`)).toEqual([
        "address: good",
        "connection: good",
        "sign-in: good",
        "probe request: good",
        "stream huts: good",
        "stream bookings: good",
        "clock: good",
        "limits: note",
        "warehouse: good",
        "write: good",
      ]);
      project.edit("connectors/bookings.connector.yaml", "get: /huts", "get: /hutz");
      expect((await command(["probe", "bookings"], project.folder, env)).code).toBe(4);
      project.edit(".env", BOOKINGS_DEFAULTS.clientSecret, "mistyped-secret");
      const bad = await command(["probe", "bookings"], project.folder, env);
      expect(bad.stdout).toMatch(
        /bad {3}sign-in[\s\S]*Check client_id and client_secret[\s\S]*— {5}stream huts[\s\S]*good {2}write/,
      );
      expect(bad.code).toBe(3);
      expect((await command(["probe", "nobody"], project.folder, env)).code).toBe(2);
      expect((await command(["probe", "bookings", "--grants"], project.folder, env)).stdout).toContain(
        "DuckDB has no users",
      );
    },
  );
});

describe("login", () => {
  inLong("brings a person through the browser, tells who and what, is remembered and forgotten", async () => {
    const { project, env } = await wholeProject();
    const before = await command(["probe", "members"], project.folder, env);
    expect(before.stdout).toContain("Run: early-bridge login members");
    const { code, stdout } = await logIn(project, env);
    expect(stdout).toMatch(/Signed in for account members[\s\S]*granted {2}members\.read[\s\S]*kept in/);
    expect(code).toBe(0);
    const status = await command(["login", "--status"], project.folder, env);
    expect(status.stdout).toMatch(/members +authorization_code +signed in/);
    expect(status.stdout).toMatch(/sensors +key +no login needed/);
    expect((await command(["probe", "members"], project.folder, env)).code).toBe(0);
    await command(["login", "members", "--forget"], project.folder, env);
    expect((await command(["login", "--status"], project.folder, env)).stdout).toMatch(
      /members +authorization_code +nobody yet/,
    );
    expect((await command(["login", "sensors"], project.folder, env)).stderr).toContain(
      "signs in without a person",
    );
    expect((await command(["login"], project.folder, env)).stderr).toContain("Accounts: north, members");
  });
});

describe("a set whose capabilities lie", () => {
  inLong("is carried whole, and what it does not do is told", async () => {
    const { project, env } = await wholeProject();
    const connector = "connectors/members.connector.yaml";
    project.edit("bridges.yaml", "bridges:", "bridges:\n  members: { from: members, to: local }");
    await logIn(project, env);
    const survey = await command(["survey", "members"], project.folder, env);
    expect(survey.stdout).toMatch(/Clubs +clubs +Code +2 +delta links +Member\[\]/);
    const before = readFileSync(join(project.folder, connector), "utf8");
    const run = async (clubs: string) => {
      writeFileSync(
        join(project.folder, connector),
        before.replace("streams:\n", `streams:\n  clubs: ${clubs}\n`),
      );
      return command(["run", "members", "--stream", "clubs", "--plain"], project.folder, env);
    };
    const untracked = await run("{ set: Clubs, cursor: { delta: true } }");
    expect([untracked.code, untracked.stdout]).toEqual([
      0,
      expect.stringContaining("The last page has no token or link for later changes"),
    ]);
    expect(untracked.stdout).toContain("clubs: done, 3 records");
    const unfiltered = await run("{ set: Clubs, pages: { keyset: true, size: { records: 2 } } }");
    expect([unfiltered.code, unfiltered.stdout]).toEqual([5, expect.stringContaining("PAGE_REPEATED")]);
    expect(await queryFile(project.database, "SELECT count(*)::INTEGER AS n FROM members.clubs")).toEqual([
      { n: 3 },
    ]);
  });
});

describe("login through a proxy", () => {
  it("goes the way that the account's requests go", async () => {
    const { project, env } = await wholeProject();
    const http = `http: { proxy: "${await proxyAnswering(403)}" }`;
    project.edit("bridges.yaml", "client_id: $MEMBERS_CLIENT", `client_id: $MEMBERS_CLIENT\n    ${http}`);
    expect(await logIn(project, env)).toMatchObject({
      code: 4,
      stderr: expect.stringContaining("PROXY_REFUSED"),
    });
  });
});

describe("tokens in a warehouse's ledger", () => {
  inLong("are sealed there, renewed during a run into the same file, and need a key", async () => {
    const { project, env, url } = await wholeProject();
    project.edit(
      "bridges.yaml",
      "client_id: $MEMBERS_CLIENT",
      "client_id: $MEMBERS_CLIENT\n    keep_tokens: local",
    );
    project.edit("bridges.yaml", "bridges:", "bridges:\n  members: { from: members, to: local }");
    const keyless = await command(["run", "members"], project.folder, { ...env, EARLY_BRIDGE_KEY: "" });
    expect([keyless.code, keyless.stderr]).toEqual([
      2,
      expect.stringContaining("EARLY_BRIDGE_KEY, which is not set"),
    ]);
    expect((await logIn(project, env)).stdout).toContain("kept in  the ledger of DuckDB file huts.duckdb");
    expect(await command(["run", "members"], project.folder, env)).toMatchObject({
      code: 0,
      stdout: expect.stringContaining("members: done, 120 records"),
    });
    // an hour later five have changed, and one has left
    await fetch(`${url}/_tick`, { method: "POST" });
    const later = await command(["run", "members", "--json"], project.folder, env);
    const report = outputLines(later.stdout).at(-1);
    expect(report).toMatchObject({ type: "run_ended", outcome: "done" });
    const rows = "SELECT count(*)::INTEGER AS n, max(id)::INTEGER AS last FROM members.members";
    expect(await queryFile(project.database, rows)).toEqual([{ n: 119, last: 7118 }]);
    expect(
      await queryFile(project.database, "SELECT code, founded::INTEGER AS f FROM members.clubs ORDER BY 1"),
    ).toHaveLength(3);
    const [kept] = await queryFile(
      project.database,
      "SELECT count(*)::INTEGER AS n, any_value(sealed) AS sealed FROM early_bridge.tokens",
    );
    expect(kept?.n).toBe(1);
    expect(Object.keys(JSON.parse(String(kept?.sealed)) as object)).toEqual([
      "format",
      "salt",
      "iv",
      "tag",
      "data",
    ]);
  });
});

describe("secret files", () => {
  it("are read for $file:, and refused when others can read them", async () => {
    const { project, env } = await wholeProject();
    project.edit("bridges.yaml", "$SENSORS_KEY", "$file:sensors-key");
    const path = join(project.folder, "sensors-key");
    expect((await command(["probe", "sensors"], project.folder, env)).stderr).toContain(
      "names the file sensors-key, which cannot be read",
    );
    writeFileSync(path, `${NEIGHBOURS_DEFAULTS.sensorsKey}\n`, { mode: 0o644 });
    const open = await command(["probe", "sensors"], project.folder, env);
    expect([open.code, open.stderr]).toEqual([2, expect.stringContaining("SECRET_FILE_OPEN")]);
    const { chmodSync } = await import("node:fs");
    chmodSync(path, 0o600);
    expect((await command(["probe", "sensors"], project.folder, env)).code).toBe(0);
  });
});

describe("init", () => {
  inLong("writes a project that can be probed at once, and overwrites nothing", async () => {
    const { project } = await wholeProject();
    const folder = join(project.folder, "new");
    const { mkdirSync, readFileSync, readdirSync } = await import("node:fs");
    const { parse } = await import("yaml");
    mkdirSync(folder);
    for (const [kind, name] of [
      ["basic", "cellar"],
      ["jwt_bearer", "log"],
      ["session", "board"],
    ] as const) {
      const made = await command(
        ["init", "--yes", "--sign-in", kind, "--name", name, "--base", "https://api.invalid"],
        folder,
      );
      expect(made).toMatchObject({
        code: 0,
        stdout: expect.stringContaining(`connectors/${name}.connector.yaml`),
      });
    }
    expect(readdirSync(join(folder, "connectors"))).toHaveLength(3);
    const before = readFileSync(join(folder, "bridges.yaml"), "utf8");
    expect(Object.keys((parse(before) as { bridges: object }).bridges)).toEqual(["cellar", "log", "board"]);
    writeFileSync(join(folder, "bridges.yaml"), `# the huts of the north\n${before}`);
    const again = await command(["init", "--yes", "--name", "other"], folder);
    expect(again.stdout).toMatch(/bridges\.yaml +added to[\s\S]*Assumed: the base address .*, no sign-in\./);
    const after = readFileSync(join(folder, "bridges.yaml"), "utf8");
    expect(after).toContain("# the huts of the north");
    expect(parse(after)).toMatchObject({
      accounts: { main: {}, other: { base: "https://api.huts.example" } },
      warehouses: { local: { duckdb: "./warehouse.duckdb" } },
      bridges: { cellar: { from: "main" }, other: { from: "other", to: "local" } },
    });
    const once = await command(["init", "--yes", "--name", "other"], folder);
    expect(once.stdout.match(/kept as it is/g)).toHaveLength(4);
    expect(readFileSync(join(folder, "bridges.yaml"), "utf8")).toBe(after);
    const ignored = readFileSync(join(folder, ".gitignore"), "utf8").split("\n");
    expect(ignored).toEqual(expect.arrayContaining([".env", "*.har"]));
    const probed = await command(["probe", "cellar"], folder, {
      CELLAR_USER: "ana",
      CELLAR_PASSWORD: "pass",
    });
    expect(probed.stdout).toContain("No host is known by the name api.invalid");
    expect(await command(["init", "--yes", "--sign-in", "basik"], folder)).toMatchObject({
      code: 2,
      stderr: expect.stringContaining("Perhaps basic is meant"),
    });
  });
});
