/** `init`: a new project, by a few questions or by options alone. */

import { basename, resolve } from "node:path";
import colors from "picocolors";
import { checkBaseUrl } from "../core/define/base-url.js";
import { namesHint } from "../core/define/check.js";
import { BridgeError, isBridgeError } from "../core/errors.js";
import { snakeCase } from "../core/shape/naming.js";
import {
  type NewProject,
  SIGN_IN_CHOICES,
  type SignInChoice,
  writeNewProject,
  writtenSignIn,
} from "../node/new-project.js";
import { EXIT_CODES } from "./exit-codes.js";

export interface InitCommandOptions {
  readonly project: string;
  readonly name?: string | undefined;
  readonly base?: string | undefined;
  readonly signIn?: string | undefined;
  readonly yes?: boolean | undefined;
}

const EXAMPLE_BASE = "https://api.huts.example";

export async function initCommand(options: InitCommandOptions): Promise<number> {
  const project =
    options.yes === true || process.stdin.isTTY !== true ? chosen(options) : await asked(options);
  if (project === undefined) return EXIT_CODES.stopped;
  const { files, account } = await writeNewProject(project);
  for (const { path, outcome } of files) {
    const word = outcome === "kept" ? colors.yellow("kept as it is") : colors.green(outcome);
    process.stdout.write(`  ${path.padEnd(40)} ${word}\n`);
  }
  const login = project.signIn.name === "authorization_code" || project.signIn.name === "device_code";
  const inFolder = options.project === "." ? "" : ` --project ${options.project}`;
  const assumed = [
    options.base === undefined && project.baseUrl === EXAMPLE_BASE ? `the base address ${EXAMPLE_BASE}` : [],
    options.signIn === undefined && project.signIn.name === "none" ? "no sign-in" : [],
  ].flat();
  if (assumed.length > 0) process.stdout.write(`\nAssumed: ${assumed.join(", ")}.\n`);
  process.stdout.write("\nNext\n");
  if (project.signIn.settings.length > 0)
    process.stdout.write("  cp .env.example .env && chmod 600 .env   then fill it in\n");
  if (login) process.stdout.write(`  npx early-bridge login ${account}${inFolder}\n`);
  process.stdout.write(`  npx early-bridge probe ${project.name}${inFolder}\n`);
  return EXIT_CODES.done;
}

function chosen({
  project: folder,
  name,
  base = EXAMPLE_BASE,
  signIn = "none",
}: InitCommandOptions): NewProject {
  return {
    folder,
    name: nameOf(name ?? basename(resolve(folder))),
    baseUrl: checkBaseUrl(base, "--base", {}),
    signIn: signInChoice(signIn),
  };
}

/** A connector's name from any text. */
export function nameOf(text: string): string {
  return (
    snakeCase(text)
      .replace(/[^a-z0-9_]/g, "")
      .replace(/^_+/, "") || "api"
  );
}

/** @throws BridgeError CONFIG_INVALID for a name that is none, with those that are */
export function signInChoice(name: string): SignInChoice {
  if (name.trim().startsWith("{")) return writtenSignIn(name);
  const choice = SIGN_IN_CHOICES.find((each) => each.name === name);
  if (choice !== undefined) return choice;
  const names = SIGN_IN_CHOICES.map((each) => each.name);
  throw new BridgeError("CONFIG_INVALID", `"${name}" is no sign-in that init knows.`, {
    hint: `${namesHint(name, names, "It knows")} Or write it out: '{ key: "{api_key}", in: query, name: key }'.`,
  });
}

/** Asks on the terminal; undefined when the user leaves. */
async function asked(options: InitCommandOptions): Promise<NewProject | undefined> {
  const { group, intro, select, text } = await import("@clack/prompts");
  intro("A new project");
  try {
    const answers = await group(
      {
        name: () =>
          text({
            message: "What is the API called?",
            placeholder: "bookings",
            initialValue: nameOf(options.name ?? basename(resolve(options.project))),
          }),
        base: () =>
          text({
            message: "What is its base address?",
            placeholder: EXAMPLE_BASE,
            initialValue: options.base ?? "",
            validate: (value) => addressProblem(value || EXAMPLE_BASE),
          }),
        signIn: () =>
          select({
            message: "How does an account sign in?",
            options: SIGN_IN_CHOICES.map(({ name, title }) => ({ value: name, label: title })),
          }),
      },
      {
        onCancel: () => {
          throw new Cancelled();
        },
      },
    );
    return chosen({ ...options, ...answers, base: answers.base || EXAMPLE_BASE });
  } catch (error) {
    if (error instanceof Cancelled) return undefined;
    throw error;
  }
}

class Cancelled extends Error {}

function addressProblem(value: string): string | undefined {
  try {
    checkBaseUrl(value, "The address", {});
    return undefined;
  } catch (error) {
    return isBridgeError(error) ? `${error.message} ${error.hint}` : String(error);
  }
}
