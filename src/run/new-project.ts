/** The files of a new project: a connector skeleton for the chosen sign-in, bridges.yaml, and what keeps secrets out. */

import { mkdir, readFile, writeFile } from "node:fs/promises";
import { dirname, join } from "node:path";

/** A way of signing in that `init` knows a skeleton for. */
export interface SignInChoice {
  readonly name: string;
  readonly title: string;
  /** lines under `settings:` */
  readonly settings: readonly string[];
  /** the value of `sign_in:` */
  readonly signIn: string;
  /** settings that are secrets: the account refers to them by $NAME */
  readonly secrets: readonly string[];
}

const secret = (name: string) => `${name}: { type: string, secret: true }`;

export const SIGN_IN_CHOICES: readonly SignInChoice[] = [
  { name: "none", title: "no sign-in", settings: [], signIn: "none", secrets: [] },
  {
    name: "key",
    title: "an API key",
    settings: [secret("api_key")],
    signIn: '{ key: "{api_key}", in: header, name: X-API-Key }',
    secrets: ["api_key"],
  },
  {
    name: "bearer",
    title: "a fixed bearer token",
    settings: [secret("token")],
    signIn: '{ bearer: "{token}" }',
    secrets: ["token"],
  },
  {
    name: "basic",
    title: "user and password (HTTP Basic)",
    settings: ["user: { type: string }", secret("password")],
    signIn: "{ basic: {} }",
    secrets: ["password"],
  },
  {
    name: "client_credentials",
    title: "OAuth 2.0 client credentials",
    settings: ["client_id: { type: string }", secret("client_secret")],
    signIn: '{ oauth2: client_credentials, token_url: "{+base}/oauth/token" }',
    secrets: ["client_secret"],
  },
  {
    name: "authorization_code",
    title: "OAuth 2.0, a person signs in with a browser",
    settings: ["client_id: { type: string }"],
    signIn:
      '{ oauth2: authorization_code, authorize_url: "{+base}/oauth/authorize", token_url: "{+base}/oauth/token" }',
    secrets: [],
  },
  {
    name: "device_code",
    title: "OAuth 2.0, a person types a code on another device",
    settings: ["client_id: { type: string }"],
    signIn: '{ oauth2: device_code, device_url: "{+base}/oauth/device", token_url: "{+base}/oauth/token" }',
    secrets: [],
  },
  {
    name: "jwt_bearer",
    title: "OAuth 2.0, a service account's key file",
    settings: ["key_file: { type: string }"],
    signIn: '{ oauth2: jwt_bearer, token_url: "{+base}/oauth/token", key_file: "{key_file}" }',
    secrets: [],
  },
  {
    name: "session",
    title: "a sign-in request that gives a token or cookie",
    settings: ["user: { type: string }", secret("password")],
    signIn:
      '{ session: { post: "/login", json: { user: "{user}", password: "{password}" }, token: $.token } }',
    secrets: ["password"],
  },
];

export interface NewProject {
  readonly folder: string;
  /** the connector's name: lower case letters, digits and _ */
  readonly name: string;
  readonly baseUrl: string;
  readonly signIn: SignInChoice;
}

export interface WrittenFile {
  readonly path: string;
  /** kept: it was there already and is as it was */
  readonly outcome: "written" | "kept" | "line added";
}

/** Writes a new project's files. Nothing that is there is overwritten. */
export async function writeNewProject(project: NewProject): Promise<WrittenFile[]> {
  const { folder, name } = project;
  const files: Record<string, string> = {
    "bridges.yaml": bridgesText(project),
    [`connectors/${name}.connector.yaml`]: connectorText(project),
    ".env.example": envText(project),
  };
  const written: WrittenFile[] = [];
  for (const [path, text] of Object.entries(files)) {
    const whole = join(folder, path);
    await mkdir(dirname(whole), { recursive: true });
    const outcome = await writeFile(whole, text, { flag: "wx" }).then(
      () => "written" as const,
      (error: unknown) => {
        if ((error as { code?: string }).code === "EEXIST") return "kept" as const;
        throw error;
      },
    );
    written.push({ path, outcome });
  }
  return [...written, await ignoreSecrets(folder)];
}

/** Keeps .env and the warehouse file out of version control. */
async function ignoreSecrets(folder: string): Promise<WrittenFile> {
  const path = join(folder, ".gitignore");
  const before = await readFile(path, "utf8").catch(() => "");
  const missing = [".env", "*.duckdb"].filter((line) => !before.split(/\r?\n/).includes(line));
  if (missing.length === 0) return { path: ".gitignore", outcome: "kept" };
  const joint = before === "" || before.endsWith("\n") ? "" : "\n";
  await writeFile(path, `${before}${joint}${missing.join("\n")}\n`);
  return { path: ".gitignore", outcome: before === "" ? "written" : "line added" };
}

/** The environment's name for a setting of the account. */
function envName({ name }: NewProject, setting: string): string {
  return `${name}_${setting}`.toUpperCase();
}

function bridgesText(project: NewProject): string {
  const { name, signIn, baseUrl } = project;
  const account = signIn.settings.map((line) => {
    const setting = line.slice(0, line.indexOf(":"));
    return `    ${setting}: $${envName(project, setting)}`;
  });
  return `# yaml-language-server: $schema=./node_modules/early-bridge/schemas/bridges.schema.json
accounts:
  main:
    connector: ./connectors/${name}.connector.yaml
    base: ${baseUrl}
${account.length > 0 ? `${account.join("\n")}\n` : ""}warehouses:
  local: { duckdb: ./${name}.duckdb }
bridges:
  ${name}: { from: main, to: local }
`;
}

function connectorText({ name, signIn }: NewProject): string {
  const settings = signIn.settings.map((line) => `  ${line}\n`).join("");
  return `# yaml-language-server: $schema=../node_modules/early-bridge/schemas/connector.schema.json
connector: ${name}
version: 0.1.0
settings: # what an account fills in
  base: { type: string, format: uri }
${settings}api:
  url: "{+base}"
  sign_in: ${signIn.signIn}
  rate_limit: { per_second: 5, concurrency: 2 } # as the API's documentation publishes it
  # probe: { get: /me }               # a cheap request that any account may make
streams:
  things: # a series of records of one kind
    get: /things
    records: $[*] # where the records are in the response
    key: id
    # pages: { token: $.next_token, query: after }
    # cursor: { field: changed_at, query: changed_after, start: -P90D, overlap: PT5M }
`;
}

function envText(project: NewProject): string {
  const lines = project.signIn.settings.map(
    (line) => `${envName(project, line.slice(0, line.indexOf(":")))}=\n`,
  );
  return `# Copy to .env, fill in, and keep it to yourself: cp .env.example .env && chmod 600 .env\n${lines.join("")}`;
}
