/** `login`: a person signs in for an account; who has, and what was granted; forgetting it. */

import { once } from "node:events";
import { createInterface } from "node:readline";
import colors from "picocolors";
import { type LoginTalk, login } from "../auth/login.js";
import { tokenKey } from "../auth/stored-tokens.js";
import type { StoredTokens } from "../auth/token-store.js";
import { type LoginScheme, type SignInScheme, schemeName, schemesOf } from "../core/define/sign-in-schema.js";
import { BridgeError } from "../core/errors.js";
import { fillText } from "../core/language/template.js";
import { type OpenedProject, openProject } from "../node/project.js";
import { type ApiInside, insideOf } from "../run/api.js";
import { EXIT_CODES } from "./exit-codes.js";
import { momentText, timeText } from "./format.js";
import { tableText } from "./table.js";

export interface LoginCommandOptions {
  readonly project: string;
  readonly status?: boolean | undefined;
  readonly forget?: boolean | undefined;
  /** false: only print the address */
  readonly browser?: boolean | undefined;
}

export async function loginCommand(
  account: string | undefined,
  options: LoginCommandOptions,
): Promise<number> {
  const onWarning = (message: string) => process.stderr.write(`${colors.yellow("note")}  ${message}\n`);
  const project = await openProject(options.project, { onWarning });
  if (options.status === true) return tellStatus(project, account);
  if (account === undefined) {
    const names = Object.keys(project.definition.accounts).join(", ");
    throw new BridgeError("CONFIG_UNKNOWN_NAME", "Say for which account.", { hint: `Accounts: ${names}.` });
  }
  const api = await project.openAccount(account);
  const inside = insideOf(api);
  try {
    return options.forget === true ? await forget(inside) : await signIn(inside, options.browser !== false);
  } finally {
    await api.close();
  }
}

async function signIn(api: ApiInside, browser: boolean): Promise<number> {
  const scheme = loginScheme(api);
  const { account, redactor, clock, signInPorts: ports } = api;
  const stop = new AbortController();
  process.once("SIGINT", () => stop.abort());
  const input = createInterface({ input: process.stdin });
  try {
    const talk = loginTalk(browser, async () => String((await once(input, "line"))[0]));
    const kept = await login({ scheme, account, redactor, ports, talk, signal: stop.signal });
    process.stdout.write(
      `\n${colors.green("Signed in")} for account ${account.name}${kept.subject === undefined ? "" : ` as ${kept.subject}`}.\n`,
    );
    if (kept.scope !== undefined) process.stdout.write(`  granted  ${kept.scope}\n`);
    process.stdout.write(`  lasts    ${lastsText(kept, clock.now())}\n  kept in  ${ports.store.title}\n`);
    return EXIT_CODES.done;
  } finally {
    input.close();
  }
}

function loginTalk(browser: boolean, readLine: () => Promise<string>): LoginTalk {
  return {
    openAddress(url, redirectUri) {
      process.stdout.write(`Open this address and sign in:\n\n  ${colors.cyan(url)}\n\n`);
      process.stdout.write(
        `The browser then goes to ${redirectUri}. If it runs on another machine and cannot get there,\n`,
      );
      process.stdout.write("paste the whole address that it ends at here, and press Enter.\n");
      // no browser is no failure: the address is on the screen
      if (browser) void import("open").then(({ default: open }) => open(url)).catch(() => {});
    },
    showCode(userCode, address, complete) {
      process.stdout.write(`Open ${colors.cyan(address)} on any device and type ${colors.bold(userCode)}.\n`);
      if (complete !== undefined)
        process.stdout.write(`Or open ${colors.cyan(complete)}, which holds the code already.\n`);
    },
    pastedAddress: readLine,
  };
}

function loginScheme(api: ApiInside): LoginScheme {
  const scheme = schemesOf(api.connector.api.sign_in).find(isLoginScheme);
  if (scheme !== undefined) return scheme;
  throw new BridgeError(
    "CONFIG_INVALID",
    `Account ${api.account.name} signs in without a person: there is nothing to log in to.`,
    {
      where: { account: api.account.name },
      hint: `Try it with: early-bridge probe ${api.account.name}`,
    },
  );
}

function isLoginScheme(scheme: SignInScheme): scheme is LoginScheme {
  return "oauth2" in scheme && (scheme.oauth2 === "authorization_code" || scheme.oauth2 === "device_code");
}

async function forget(api: ApiInside): Promise<number> {
  const key = keyOf(api);
  if (key !== undefined) await api.signInPorts.store.remove(key);
  process.stdout.write(
    `Nothing is kept for account ${api.account.name} any more. What was granted lasts at the API until it is revoked there.\n`,
  );
  return EXIT_CODES.done;
}

/** The key of what is kept for an account; undefined where its sign-in keeps nothing. */
function keyOf(api: ApiInside): string | undefined {
  const scheme = schemesOf(api.connector.api.sign_in).find(
    (each) => isLoginScheme(each) || ("oauth2" in each && each.oauth2 === "refresh_token"),
  );
  if (scheme === undefined || !("client_id" in scheme)) return undefined;
  return tokenKey(api.account, fillText(scheme.client_id, api.account.values));
}

async function tellStatus(project: OpenedProject, only: string | undefined): Promise<number> {
  const names = only === undefined ? Object.keys(project.definition.accounts) : [only];
  const rows: string[][] = [];
  for (const name of names) {
    const api = await project.openAccount(name);
    const schemes = schemesOf(api.connector.api.sign_in);
    const words = schemes.map(schemeName).join(" + ") || "none";
    const inside = insideOf(api);
    const key = keyOf(inside);
    const kept = key === undefined ? undefined : await inside.signInPorts.store.read(key);
    rows.push([name, words, ...statusCells(key, kept, inside)]);
    await api.close();
  }
  const columns = ["account", "sign-in", "", "as", "granted", "lasts"].map((title) => ({ title }));
  process.stdout.write(`${tableText(columns, rows)}\n`);
  return EXIT_CODES.done;
}

function statusCells(key: string | undefined, kept: StoredTokens | undefined, api: ApiInside): string[] {
  if (key === undefined) return [colors.dim("no login needed"), "", "", ""];
  if (kept?.refreshToken === undefined && kept?.accessToken === undefined) {
    return [colors.yellow("nobody yet"), "", "", `early-bridge login ${api.account.name}`];
  }
  return [colors.green("signed in"), kept.subject ?? "", kept.scope ?? "", lastsText(kept, api.clock.now())];
}

function lastsText({ refreshToken, endsAtMs, savedAtMs }: StoredTokens, nowMs: number): string {
  if (refreshToken !== undefined) return `renewed by itself; last on ${momentText(savedAtMs)}`;
  if (endsAtMs === undefined) return "until the API says otherwise";
  return endsAtMs <= nowMs
    ? "has ended: log in again"
    : `another ${timeText(endsAtMs - nowMs)}; the API gave no refresh token`;
}
