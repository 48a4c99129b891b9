// Takes the pictures of docs/screenshots from the demo data, in a real terminal window.
// Needs Debian's packages xvfb, xterm, imagemagick and fonts-dejavu; for the picture of a server, EARLY_BRIDGE_POSTGRES
// has the address of a database that may be written to.
import { execFileSync, spawn } from "node:child_process";
import { once } from "node:events";
import { cpSync, existsSync, mkdirSync, mkdtempSync, readFileSync, rmSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join, resolve } from "node:path";
import { setTimeout as delay } from "node:timers/promises";

const DISPLAY = ":77";
const SCREEN = "1280x800x24";
const pictures = resolve("docs/screenshots");
const folder = mkdtempSync(join(tmpdir(), "early-bridge-pictures-"));
const project = join(folder, "early-bridge-demo");
const bin = resolve("dist/cli/main.js");

/** Runs a command line in a window; takes the picture after `afterMs`, or when it has ended. */
async function picture(name, shown, commandLine, { afterMs, cwd = folder } = {}) {
  const ended = join(folder, `${name}.ended`);
  const script = `cd '${cwd}'; printf '\\033[1m$\\033[0m ${shown}\\n'; ${commandLine}; touch '${ended}'; sleep 60`;
  const terminal = spawn(
    "xterm",
    [
      "-fa",
      "DejaVu Sans Mono",
      "-fs",
      "12",
      "-geometry",
      "125x38",
      "-bg",
      "#10141a",
      "-fg",
      "#d8dee9",
      "-e",
      "bash",
      "-c",
      script,
    ],
    { env: { ...process.env, DISPLAY, FORCE_COLOR: "1" }, stdio: "ignore" },
  );
  if (afterMs !== undefined) await delay(afterMs);
  else while (!existsSync(ended)) await delay(100);
  await delay(500);
  execFileSync("import", ["-window", "root", join(pictures, `${name}.png`)], {
    env: { ...process.env, DISPLAY },
  });
  terminal.kill();
  console.log(`docs/screenshots/${name}.png`);
}

const only = process.argv[2];
const screen = spawn("Xvfb", [DISPLAY, "-screen", "0", SCREEN], { stdio: "ignore" });
const node = `'${process.execPath}' '${bin}'`;
try {
  await delay(1500);
  const take = async (name, ...rest) =>
    only === undefined || only === name ? picture(name, ...rest) : undefined;
  await take("run", "npx early-bridge demo --bookings 200000", `${node} demo --bookings 200000`, {
    afterMs: 9000,
  });
  await picture("demo", "npm start", `${node} demo`);
  await take("plan", "npx early-bridge plan sensors", `${node} plan sensors`, { cwd: project });
  await take(
    "history",
    "npx early-bridge history",
    `${node} history; echo; printf '\\033[1m$\\033[0m npx early-bridge history 1\\n'; ${node} history 1`,
    {
      cwd: project,
    },
  );
  const service = spawn(process.execPath, [bin, "demo", "--serve"], { cwd: folder });
  // it writes the project's files anew before it says where it listens
  await once(service.stdout, "data");
  await take(
    "mistake",
    "npx early-bridge run bookings   (with a mistyped secret)",
    `BOOKINGS_SECRET=mistyped ${node} run bookings --plain`,
    { cwd: project },
  );
  await take("probe", "npx early-bridge probe bookings", `${node} probe bookings`, { cwd: project });
  await take(
    "survey",
    "npx early-bridge survey stores",
    `${node} survey stores; echo; printf '\\033[1m$\\033[0m npx early-bridge survey stores Items\\n'; ${node} survey stores Items`,
    { cwd: project },
  );
  // a field that some records have no value in; then the rule is put right
  const connector = join(project, "connectors/bookings.connector.yaml");
  const computing = (name, expression) => {
    const line = `    get: /bookings\n    compute: { has_mail: "${expression}" }`;
    const text = readFileSync(connector, "utf8").replace("    get: /bookings", line);
    writeFileSync(join(project, name), text);
  };
  computing("wrong.yaml", "record.lead_guest.email.contains('@')");
  computing("right.yaml", "record.lead_guest.email != null && record.lead_guest.email.contains('@')");
  const wrong = `cp wrong.yaml ${connector}; ${node} rewind bookings bookings --yes; ${node} run bookings --plain`;
  const retried = `printf '\\n\\033[1m$\\033[0m npx early-bridge mend --retry   (the rule is put right)\\n'; ${node} mend --retry`;
  await take(
    "mend",
    "npx early-bridge mend",
    `(${wrong}) >said 2>&1; ${node} mend; cp right.yaml ${connector}; ${retried}`,
    { cwd: project },
  );
  await take("drift", "npx early-bridge drift bookings", `${node} drift bookings`, { cwd: project });
  const desk = join(folder, "desk");
  mkdirSync(desk);
  const bookings = "http://127.0.0.1:4180/v2";
  const signIn = `'{ oauth2: client_credentials, token_url: "{+base}/oauth/token", scope: bookings.read }'`;
  const secrets = "export DESK_CLIENT_ID=hut-desk DESK_CLIENT_SECRET=edelweiss-by-the-gate";
  const draft = `${secrets}; ${node} draft ${bookings}/huts ${bookings}/bookings --name desk --sign-in ${signIn}`;
  await take(
    "draft",
    `npx early-bridge draft …/v2/huts …/v2/bookings --name desk --sign-in …`,
    `${draft}; printf '\\n\\033[1m$\\033[0m tail -n 21 connectors/desk.connector.yaml\\n'; tail -n 21 connectors/desk.connector.yaml`,
    { cwd: desk },
  );
  await take(
    "peek",
    "npx early-bridge peek crew shifts --records 30",
    `${node} peek crew shifts --records 30`,
    { cwd: project },
  );
  await take(
    "forecast",
    "npx early-bridge plan --forecast",
    `${node} plan sensors --forecast; ${node} plan feedback --forecast | tail -n 9`,
    { cwd: project },
  );
  await take(
    "probe-bad",
    "npx early-bridge probe bookings   (with a mistyped secret)",
    `BOOKINGS_SECRET=mistyped ${node} probe bookings`,
    {
      cwd: project,
    },
  );
  // whoever opens the address has signed in to the members service: the picture's person does so by curl
  const login = `(env -u FORCE_COLOR NO_COLOR=1 ${node} login members --no-browser & sleep 2; curl -sL "$(cat said | grep -o 'http.*authorize.*')" >/dev/null; wait) > said 2>&1`;
  const config = `export EARLY_BRIDGE_CONFIG='${join(folder, "config")}' EARLY_BRIDGE_KEY=picture; ${login}`;
  await take("login", "npx early-bridge login --status", `${config}; ${node} login --status`, {
    cwd: project,
  });
  const other = (name, place) => {
    const copy = join(folder, name);
    cpSync(project, copy, { recursive: true });
    const file = join(copy, "bridges.yaml");
    const own = "local: { duckdb: ./huts.duckdb }";
    writeFileSync(
      file,
      readFileSync(file, "utf8")
        .replace(own, `local: ${place}`)
        .replace(/^ +views: .*\n/m, ""),
    );
    return copy;
  };
  const csv = `{ folder: ./handover, files: { format: csv, csv: { delimiter: ";", decimal: "," } } }`;
  const found = "find handover -type f | sort";
  const document = "head -n 23 handover/_early_bridge/runs/000001.json | cut -c 1-110";
  await take(
    "files",
    `npx early-bridge run bookings   (into a folder, as CSV); ${found}`,
    `${node} run bookings --plain > said 2>&1; ${found}; printf '\\n\\033[1m$\\033[0m ${document}\\n'; ${document}`,
    { cwd: other("files", csv) },
  );
  const server = process.env.EARLY_BRIDGE_POSTGRES;
  if (server === undefined) console.log("no EARLY_BRIDGE_POSTGRES: no picture of a server");
  else
    await take(
      "probe-server",
      "npx early-bridge probe bookings   (into PostgreSQL)",
      `export WAREHOUSE_URL='${server}'; ${node} probe bookings; printf '\\n\\033[1m$\\033[0m npx early-bridge probe bookings --grants\\n'; ${node} probe bookings --grants`,
      { cwd: other("server", "{ postgres: $WAREHOUSE_URL }") },
    );
  service.kill("SIGINT");
} finally {
  screen.kill();
  rmSync(folder, { recursive: true, force: true });
}
