#!/usr/bin/env node
/** The command line: thin commands over the public functions. Their modules are loaded when they are called. */

import module from "node:module";
import v8 from "node:v8";
import { Command, CommanderError, InvalidArgumentError } from "commander";
import type { BridgeError } from "../core/errors.js";
import { packageVersion } from "../http/package-version.js";
import { EXIT_CODE_HELP, EXIT_CODES } from "./exit-codes.js";
import { NO_LOG } from "./no-log.js";

const PROJECT_OPTION = ["--project <folder>", "folder that holds bridges.yaml", "."] as const;

function buildProgram(setExitCode: (code: number) => void, logs: Logs): Command {
  const program = new Command("early-bridge")
    .description("Carries SaaS APIs into typed warehouse tables: nothing lost, nothing doubled.")
    .version(packageVersion(), "--version", "print the version")
    .helpOption("--help", "print help")
    .option("--log <file>", "add what is done to a file, as structured lines")
    .addHelpText("after", EXIT_CODE_HELP)
    .configureHelp({ showGlobalOptions: true })
    .showSuggestionAfterError()
    .configureOutput({ outputError: (text, write) => (asksForJson() ? undefined : write(text)) })
    .exitOverride()
    .hook("preAction", (_program, command) =>
      logs.begin(command.name(), program.opts<{ log?: string }>().log),
    );
  program
    .command("init")
    .description("start a project: bridges.yaml, a connector skeleton, .env.example")
    .option("--project <folder>", "folder of the project", ".")
    .option("--name <name>", "name of the API; default: the folder's")
    .option("--base <address>", "base address of the API")
    .option("--sign-in <kind>", "none, key, bearer, basic, client_credentials, authorization_code, …")
    .option("--yes", "ask nothing")
    .action(async (options) => setExitCode(await (await import("./init-command.js")).initCommand(options)));
  program
    .command("draft")
    .description(
      "write a connector file by asking an API: records, pages, key, cursor, each guess with its reason",
    )
    .argument(
      "<source...>",
      "addresses of lists of one API, of its OData service or OpenAPI document; or a file, OpenAPI or HAR",
    )
    .option("--project <folder>", "folder of the project", ".")
    .option("--name <name>", "name of the API; default: the host's")
    .option(
      "--sign-in <kind>",
      "as for init, or the connector's sign_in in YAML; values come from the environment",
    )
    .option("--account <name>", "account whose tokens are used, where a person signs in")
    .option(
      "--post <body>",
      "JSON or XML to post instead of a GET, or a file; {token} stands for the next page's",
    )
    .option("--base <address>", "of the API, where a document on disk names none")
    .option("--only <stream...>", "of a document, only these streams")
    .action(async (sources, options) =>
      setExitCode(await (await import("./draft-command.js")).draftCommand(sources, options)),
    );
  program
    .command("plan")
    .description(
      "what a run would ask and write, and what to be careful of; with --forecast, what it will take",
    )
    .argument("[bridge]", "name of the bridge; left out, all of them")
    .option(...PROJECT_OPTION)
    .option("--forecast", "ask each stream for a page or a few, and say what a run will take")
    .option("--json", "the plans as JSON lines")
    .action(async (bridge, options) =>
      setExitCode(await (await import("./plan-command.js")).planCommand(bridge, options)),
    );
  program
    .command("run")
    .description("carry a bridge, or all bridges of the project")
    .argument("[bridge]", "name of the bridge; left out, all of them")
    .option(...PROJECT_OPTION)
    .option("--stream <name...>", "only these streams of the bridge")
    .option("--plain", "plain lines instead of the live view")
    .option("--json", "events as JSON lines")
    .option("--record <file>", "write what the API answers into a HAR file, without secrets")
    .option("--replay <file>", "take the responses from such a file: nothing is sent")
    .option("--wait", "wait while another run has the warehouse")
    .addHelpText("after", EXIT_CODE_HELP)
    .action(async (bridge, options) =>
      setExitCode(await (await import("./run-command.js")).runCommand(bridge, options, logs.log)),
    );
  program
    .command("history")
    .description("what each run did: rows, requests, waiting, failures")
    .argument("[run]", "number of one run, to see it in detail", wholeNumber)
    .option(...PROJECT_OPTION)
    .option("--bridge <name>", "only runs of this bridge")
    .option("--warehouse <name>", "only the ledger of this warehouse")
    .option("--limit <count>", "runs to show, newest first", wholeNumber, 20)
    .option("--json", "runs as JSON lines")
    .action(async (run, options) =>
      setExitCode(await (await import("./history-command.js")).historyCommand(run, options)),
    );
  program
    .command("login")
    .description("sign in as a person, for accounts whose API wants that")
    .argument("[account]", "name of the account")
    .option(...PROJECT_OPTION)
    .option("--status", "who is signed in, what was granted, how long it lasts")
    .option("--forget", "remove what is kept for the account")
    .option("--no-browser", "only print the address")
    .action(async (account, options) =>
      setExitCode(await (await import("./login-command.js")).loginCommand(account, options)),
    );
  program
    .command("survey")
    .description("what there is to carry: sets or lists, with keys, columns, pages and cursors")
    .argument("<account>", "name of the account")
    .argument("[name]", "one of them, in detail")
    .option(...PROJECT_OPTION)
    .option("--search <word>", "only those whose name, columns or descriptions hold it")
    .option("--openapi <source>", "the API's OpenAPI document: a file, or a whole address")
    .option("--pick [name...]", "write these into the connector file; with none named, from a list to tick")
    .option("--json", "what is found as JSON lines")
    .action(async (account, name, options) =>
      setExitCode(await (await import("./survey-command.js")).surveyCommand(account, name, options)),
    );
  program
    .command("peek")
    .description("a sample of a stream: its fields, the tables it becomes, what rules decide over it")
    .argument("<account>", "name of the account")
    .argument("<stream>", "name of the stream")
    .option(...PROJECT_OPTION)
    .option("--records <count>", "records of the sample, at most", wholeNumber)
    .option("--where <condition>", "try this CEL condition over record instead of the stream's own")
    .option("--columns <rules>", "try these rules, in YAML, beside the stream's own")
    .option("--save <file>", "keep the sample, without what columns hide")
    .option("--sample <file>", "look at a sample that was kept: nothing is sent")
    .option("--json", "all of it as JSON lines")
    .action(async (account, stream, options) =>
      setExitCode(await (await import("./peek-command.js")).peekCommand(account, stream, options)),
    );
  program
    .command("probe")
    .description("a checklist: address, sign-in, each stream, limits; for a bridge also its warehouse")
    .argument("<name>", "name of a bridge or an account")
    .option(...PROJECT_OPTION)
    .option("--grants", "print the SQL that gives a warehouse user what the bridge needs")
    .option("--json", "the lines as JSON lines")
    .addHelpText("after", EXIT_CODE_HELP)
    .action(async (name, options) =>
      setExitCode(await (await import("./probe-command.js")).probeCommand(name, options, logs.log)),
    );
  program
    .command("drift")
    .description("how the API's data has changed its form: tables, columns and types, run by run")
    .argument("[bridge]", "name of the bridge; left out, all of them")
    .option(...PROJECT_OPTION)
    .option("--json", "the changes as JSON lines")
    .action(async (bridge, options) =>
      setExitCode(await (await import("./drift-command.js")).driftCommand(bridge, options)),
    );
  program
    .command("mend")
    .description("what is in quarantine, and why; tried again, discarded, or taken out")
    .argument("[bridge]", "name of the bridge; left out, all of them")
    .option(...PROJECT_OPTION)
    .option("--stream <name>", "only records of this stream")
    .option("--reason <word>", "only those that are there for this reason, such as type_mismatch")
    .option("--path <path>", "only those with something wrong at this path")
    .option("--show <id>", "one record, whole")
    .option("--retry", "try them again, by the rules as they are now: nothing is asked of the API")
    .option("--discard", "they are not wanted; --why says why")
    .option("--why <words>", "kept with what is discarded")
    .option("--export <file>", "write them as JSON Lines")
    .option("--json", "all of it as JSON lines")
    .action(async (bridge, options) =>
      setExitCode(await (await import("./mend-command.js")).mendCommand(bridge, options)),
    );
  program
    .command("rewind")
    .description("set a stream's cursor back: what was loaded is asked for again")
    .argument("<bridge>", "name of the bridge")
    .argument("<stream>", "name of the stream")
    .option(...PROJECT_OPTION)
    .option(
      "--to <place>",
      "a value of the cursor, a time, or a duration such as -P7D; default: its beginning",
    )
    .option("--until <time>", "of a stream in windows, only what is before this time")
    .option("--part <name>", "only this part of the stream")
    .option("--anew", "drop its tables as well, and load it as if it had never been")
    .option("--yes", "do not ask")
    .option("--json", "what is set back as a JSON line")
    .action(async (bridge, stream, options) =>
      setExitCode(await (await import("./rewind-command.js")).rewindCommand(bridge, stream, options)),
    );
  program
    .command("demo")
    .description("see it at work on made-up data, in the folder early-bridge-demo")
    .option("--serve", "only keep the demo's service up")
    .option(
      "--to <address>",
      "into a PostgreSQL, MariaDB or MySQL server, or a folder, and not into a DuckDB file",
    )
    .option("--bookings <count>", "bookings in the service", wholeNumber, 20_000)
    .option("--plain", "plain lines instead of the live view")
    .action(async (options) =>
      setExitCode(await (await import("./demo-command.js")).demoCommand(options, logs.log)),
    );
  return program;
}

/** The log of this process; that of nobody where none was asked for. */
class Logs {
  log = NO_LOG;
  private readonly began = performance.now();

  async begin(command: string, path: string | undefined): Promise<void> {
    if (path === undefined) return;
    const { openLog } = await import("./log.js");
    this.log = await openLog(path, (message) => process.stderr.write(`${message}\n`));
    this.log.note("info", "command_started", { command, version: packageVersion() });
  }

  failed(error: BridgeError): void {
    this.log.note("error", "error", { error });
  }

  end(exitCode: number): number {
    this.log.note("info", "command_ended", { exitCode, ms: performance.now() - this.began });
    return exitCode;
  }
}

function wholeNumber(text: string): number {
  if (!/^\d+$/.test(text) || Number(text) < 1)
    throw new InvalidArgumentError("It must be a whole number from 1 on.");
  return Number(text);
}

function asksForJson(): boolean {
  return process.argv.includes("--json");
}

async function main(): Promise<number> {
  let exitCode: number = EXIT_CODES.done;
  const logs = new Logs();
  const program = buildProgram((code) => {
    exitCode = code;
  }, logs);
  try {
    await program.parseAsync();
    return logs.end(exitCode);
  } catch (error) {
    const isUsage = error instanceof CommanderError;
    if (isUsage && (error.exitCode === 0 || !asksForJson()))
      return error.exitCode === 0 ? EXIT_CODES.done : EXIT_CODES.config;
    const [{ tellError }, { BridgeError, toBridgeError }] = await Promise.all([
      import("./run-command.js"),
      import("../core/errors.js"),
    ]);
    if (isUsage) {
      const message = error.message.replace(/^error: /, "");
      const hint = "See early-bridge --help.";
      tellError(new BridgeError("USAGE", message, { hint, cause: error }), true);
      return EXIT_CODES.config;
    }
    const told = toBridgeError(error);
    logs.failed(told);
    tellError(told, asksForJson());
    return logs.end(EXIT_CODES[told.kind]);
  }
}

// a reader that has seen enough, such as head, closes the pipe: that is no failure
process.stdout.on("error", (error: NodeJS.ErrnoException) => {
  if (error.code !== "EPIPE") throw error;
});

// these compile the parser of HTTP once more, at its best, after a response or two; no process ends before that is
// done, and it takes a tenth of a second. Later ones wait longer by themselves
if (/^2[0-2]\./.test(process.versions.node)) v8.setFlagsFromString("--wasm-tiering-budget=13000000");

// Node 22.8 and later keep what was compiled once
(module as { enableCompileCache?: () => unknown }).enableCompileCache?.();

process.exitCode = await main();
