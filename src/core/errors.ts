/**
 * Everything that can go wrong and is told to a user: one table, one class.
 *
 * The table gives each code the kind of failure (which decides the exit code of the command line) and the
 * remedy that is shown where the thrower knows no better one.
 */

import { systemFault } from "./system-fault.js";

/** What kind of thing failed. The command line turns it into its exit code. */
export type ErrorKind =
  | "config"
  | "sign_in"
  | "api"
  | "data"
  | "incomplete"
  | "warehouse"
  | "limit"
  | "stopped"
  | "internal";

interface CodeEntry {
  readonly kind: ErrorKind;
  readonly hint: string;
  /** Whether trying the same thing again, unchanged, may succeed. */
  readonly retryable?: boolean;
}

/** Every code, with the kind of failure that it is and what to do about it. */
export const ERROR_CODES = {
  CONFIG_NOT_FOUND: {
    kind: "config",
    hint: "Check the path, or run from the folder that holds bridges.yaml.",
  },
  CONFIG_SYNTAX: { kind: "config", hint: "Correct the YAML at the place named." },
  CONFIG_INVALID: { kind: "config", hint: "Correct the value at the place named." },
  CONFIG_UNKNOWN_KEY: { kind: "config", hint: "Remove the key or correct its spelling." },
  CONFIG_UNKNOWN_NAME: { kind: "config", hint: "Use one of the names that are declared." },
  USAGE: { kind: "config", hint: "See early-bridge --help." },
  SECRET_MISSING: {
    kind: "config",
    hint: "Set it in the environment or in the .env file beside bridges.yaml.",
  },
  SECRET_IN_PLAIN: { kind: "config", hint: "Move the value into .env and refer to it by $NAME." },
  SECRET_FILE_OPEN: { kind: "config", hint: "Run: chmod 600 on the file." },
  URL_INVALID: { kind: "config", hint: "Give a complete URL, such as https://api.huts.example." },
  URL_INSECURE: { kind: "config", hint: "Use https; plain http is accepted only for this machine itself." },
  DRIVER_MISSING: { kind: "config", hint: "Install the driver that is named, then run again." },
  SIGN_IN_REFUSED: { kind: "sign_in", hint: "Check the client id and secret of the account." },
  SIGN_IN_FAILED: {
    kind: "sign_in",
    hint: "Check token_url in the connector: it did not answer as OAuth 2.0.",
  },
  TOKEN_REFUSED: { kind: "sign_in", hint: "Check that the scope and the base URL belong to this account." },
  LOGIN_NEEDED: { kind: "sign_in", hint: "Run: early-bridge login with the account's name." },
  LOGIN_FAILED: { kind: "sign_in", hint: "Start the login again." },
  TOKEN_STORE_FAILED: { kind: "sign_in", hint: "Sign in anew: early-bridge login." },
  HOST_UNKNOWN: { kind: "api", hint: "Check the host name in the account's settings, and the network." },
  CONNECTION_REFUSED: { kind: "api", hint: "Check host and port; is the service running?", retryable: true },
  CONNECTION_LOST: { kind: "api", hint: "Run again: it goes on from the last checkpoint.", retryable: true },
  TIMED_OUT: { kind: "api", hint: "Run again later, or raise the account's time-outs.", retryable: true },
  TLS_FAILED: { kind: "api", hint: "Check the address, and the certificate of the server." },
  PROXY_REFUSED: { kind: "api", hint: "Check the proxy's address and credentials." },
  FORBIDDEN: { kind: "api", hint: "Ask for the permission that this request needs." },
  NOT_FOUND: {
    kind: "api",
    hint: "Check the base URL and the stream's path: the API knows no such address.",
  },
  REQUEST_REFUSED: { kind: "api", hint: "Read the API's own words above and correct the stream's request." },
  REDIRECTED: { kind: "api", hint: "Put the final address into the account's base URL." },
  RATE_LIMITED: {
    kind: "api",
    hint: "Run again later: it goes on from the last checkpoint.",
    retryable: true,
  },
  SERVER_FAILED: {
    kind: "api",
    hint: "Run again later: it goes on from the last checkpoint.",
    retryable: true,
  },
  BODY_HTML: { kind: "api", hint: "Check the base URL: a web page answered, not the API.", retryable: true },
  BODY_TRUNCATED: { kind: "api", hint: "Run again: it goes on from the last checkpoint.", retryable: true },
  BODY_NOT_JSON: {
    kind: "api",
    hint: "Check the stream's address: the response is not JSON.",
    retryable: true,
  },
  BODY_UNREADABLE: {
    kind: "api",
    hint: "Check the stream's `response`: it says how the response is written.",
    retryable: true,
  },
  RESPONSE_FAILED: {
    kind: "api",
    hint: "Read the API's own words above: one of the connector's `rules` says stop.",
  },
  RESPONSE_SKIPPED: { kind: "api", hint: "One of the connector's `rules` says that nothing is there." },
  RESPONSE_UNLIKE: {
    kind: "api",
    hint: "Run again later. If this is how the API answers, say what it means under `rules`.",
    retryable: true,
  },
  CHANGES_UNCLEAR: {
    kind: "api",
    hint: "The set is read whole instead. Without $expand, each set tells its own changes.",
  },
  RESPONSE_BUSY: {
    kind: "api",
    hint: "Run again later: it goes on from the last checkpoint.",
    retryable: true,
  },
  LIMIT_REACHED: { kind: "limit", hint: "Run again then: it goes on from the last checkpoint." },
  RETRIES_EXHAUSTED: { kind: "api", hint: "Run again later: the API fails too often now." },
  REPORT_FAILED: { kind: "api", hint: "Check the report's request: the API could not make it." },
  RESULTS_CUT: {
    kind: "data",
    hint: "Ask for less at a time: windows of time, or a filter in the stream's query.",
  },
  LINK_NOT_OURS: {
    kind: "api",
    hint: "If that address belongs to the API, declare it under api.origins of the connector.",
  },
  FILE_UNREADABLE: { kind: "config", hint: "Check the path; it is meant from the project's folder." },
  FILE_UNWRITABLE: { kind: "config", hint: "Check the path, its permissions and the space that is left." },
  FILE_FAILED: { kind: "config", hint: "Check the path, its permissions and the space that is left." },
  RECORDING_MISSING: {
    kind: "config",
    hint: "Record the run again, with the same connector, account and streams.",
  },
  WHERE_FAILED: {
    kind: "data",
    hint: "Correct the stream's `where`: fields are record.name, and a text is compared with a text.",
  },
  FUNCTION_FAILED: { kind: "config", hint: "Correct the connector's own function that is named." },
  PART_INVALID: { kind: "data", hint: "Each value of `each` must be a text, a number or true/false." },
  BODY_TOO_LARGE: { kind: "api", hint: "Ask for smaller pages in the stream's query." },
  METADATA_UNREADABLE: {
    kind: "api",
    hint: "Check api.url of the connector: it is the service's root, and $metadata stands below it.",
    retryable: true,
  },
  RECORDS_NOT_FOUND: { kind: "data", hint: "Correct the stream's `records` path." },
  INCOMPLETE: {
    kind: "incomplete",
    hint: "The rows that came are in, and the cursor stays: the next run asks for the same again.",
  },
  KEY_NOT_UNIQUE: {
    kind: "data",
    hint: "Name all fields that identify a record: key: [id, …]; or leave key out and write: replace.",
  },
  RECORDS_NOT_FIT: {
    kind: "data",
    hint: "Correct the column's type under `columns` of the stream, or leave it out: types are inferred.",
  },
  KEY_NOT_FOUND: {
    kind: "data",
    hint: "Correct the stream's `key`, or leave it out and use write: replace.",
  },
  TOKEN_NOT_TEXT: { kind: "data", hint: "Correct pages.token: it must lead to a text or a number." },
  PAGE_REPEATED: {
    kind: "data",
    hint: "Check pages.token and pages.query: the API does not move on with them.",
  },
  CURSOR_UNFIT: {
    kind: "data",
    hint: "Choose a cursor.field whose values are all of one kind; or give the bridge another name, to begin anew.",
  },
  CURSOR_NOT_FOUND: { kind: "data", hint: "Correct cursor.field: no record has a usable value there." },
  WAREHOUSE_LOCKED: {
    kind: "warehouse",
    hint: "Close the other program that has the file open, then run again; or wait for it: early-bridge run --wait.",
    retryable: true,
  },
  BRIDGE_RUNNING: {
    kind: "warehouse",
    hint: "Wait until its run has ended; on the command line: early-bridge run --wait.",
    retryable: true,
  },
  WAREHOUSE_NOT_OURS: {
    kind: "warehouse",
    hint: "Choose another path: this file belongs to another program.",
  },
  WAREHOUSE_EMPTY: { kind: "warehouse", hint: "Run a bridge into it first." },
  WAREHOUSE_UNREACHABLE: { kind: "warehouse", hint: "Check the path and its permissions." },
  HOST_KEY_UNKNOWN: {
    kind: "warehouse",
    hint: "Ask the server's owner for its fingerprint, and write it into sftp: { host_key: SHA256:… }.",
  },
  WAREHOUSE_NEWER: {
    kind: "warehouse",
    hint: "Update early-bridge: a newer version has written this ledger.",
  },
  WAREHOUSE_OLDER: {
    kind: "warehouse",
    hint: "Run a bridge into this warehouse once: that brings the ledger up to date.",
  },
  VIEW_INVALID: { kind: "config", hint: "Write one query into the file of the view, and nothing else." },
  VIEW_FAILED: {
    kind: "warehouse",
    hint: "Correct the view's query: its tables are named with their schema. The rows are loaded.",
  },
  WAREHOUSE_FAILED: { kind: "warehouse", hint: "Rows and cursor stay as at the last checkpoint." },
  DRIFT_STOPPED: {
    kind: "data",
    hint: "The bridge's drift policy says stop: nothing of that page is written. Permit it (drift: new_column, new_table, type_change), or declare the column.",
  },
  SWEEP_TOO_MUCH: {
    kind: "incomplete",
    hint: "Nothing is deleted. Where it is true that so much is gone, raise share of the stream's sweep for one run.",
  },
  QUARANTINE_FULL: {
    kind: "data",
    hint: "Look at what does not fit (early-bridge mend), put the rule or the type right, then mend and run again; or permit more under quarantine of the bridge.",
  },
  WRITE_CHANGED: {
    kind: "config",
    hint: "Write the stream as before; or begin it anew (early-bridge rewind <bridge> <stream> --anew): its tables are dropped and loaded again.",
  },
  TABLE_NOT_OURS: {
    kind: "warehouse",
    hint: "Choose another `schema` for the bridge, or move the table away.",
  },
  TABLE_MISMATCH: {
    kind: "config",
    hint: "Say in into.columns of the stream which field goes into which column; early-bridge plan tells what does not fit.",
  },
  STOPPED: { kind: "stopped", hint: "Run again: it goes on from the last checkpoint." },
  INTERNAL: { kind: "internal", hint: "This is a fault of early-bridge itself; please report it." },
} as const satisfies Record<string, CodeEntry>;

/** A code of the table: stable, while messages may change. */
export type ErrorCode = keyof typeof ERROR_CODES;

/** The place of a failure, as far as it is known. `file` is `path:line:column`. */
export interface Where {
  readonly file?: string | undefined;
  readonly account?: string | undefined;
  readonly bridge?: string | undefined;
  readonly stream?: string | undefined;
  /** which part of the stream: its values, its window */
  readonly part?: string | undefined;
  readonly page?: number | undefined;
  readonly request?: string | undefined;
  readonly table?: string | undefined;
}

export interface BridgeErrorOptions {
  readonly where?: Where | undefined;
  readonly hint?: string | undefined;
  readonly cause?: unknown;
  /** How long the API asked to wait, in milliseconds. */
  readonly retryAfterMs?: number | undefined;
  /** it was tried again already, as often as is sensible: nobody further out tries again */
  readonly triedOut?: boolean | undefined;
}

const BRAND = Symbol.for("early-bridge.error");

/** The one error class of the product: a stable `code`, the place, what was seen, and what to do. */
export class BridgeError extends Error {
  /** Node prints it for errors that nobody caught; the bundled class has another name of its own. */
  static override readonly name: string = "BridgeError";
  override readonly name = "BridgeError";
  readonly code: ErrorCode;
  readonly where: Where;
  readonly hint: string;
  readonly retryAfterMs: number | undefined;
  readonly triedOut: boolean;

  constructor(code: ErrorCode, message: string, options: BridgeErrorOptions = {}) {
    super(message, options.cause === undefined ? undefined : { cause: options.cause });
    this.code = code;
    this.where = options.where ?? {};
    this.hint = options.hint ?? ERROR_CODES[code].hint;
    this.retryAfterMs = options.retryAfterMs;
    this.triedOut = options.triedOut === true;
    Object.defineProperty(this, BRAND, { value: true });
    // the cause may hold headers or a response: kept for debuggers, not printed by loggers
    if (options.cause !== undefined) {
      Object.defineProperty(this, "cause", { value: options.cause, enumerable: false });
    }
  }

  get kind(): ErrorKind {
    return ERROR_CODES[this.code].kind;
  }

  get retryable(): boolean {
    const entry: CodeEntry = ERROR_CODES[this.code];
    return entry.retryable === true && !this.triedOut;
  }

  /** The same error with more of its place filled in; what is known already stays. */
  at(where: Where): BridgeError {
    return new BridgeError(this.code, this.message, {
      where: { ...where, ...dropUndefined(this.where) },
      hint: this.hint,
      cause: this.cause,
      retryAfterMs: this.retryAfterMs,
      triedOut: this.triedOut,
    });
  }

  /** The same error in other words: without its secrets, say. */
  saying(message: string): BridgeError {
    if (message === this.message) return this;
    const { where, hint, cause, retryAfterMs, triedOut } = this;
    return new BridgeError(this.code, message, { where, hint, cause, retryAfterMs, triedOut });
  }

  toJSON(): { code: ErrorCode; message: string; where: Where; hint: string } {
    return { code: this.code, message: this.message, where: this.where, hint: this.hint };
  }
}

function dropUndefined(where: Where): Where {
  return Object.fromEntries(Object.entries(where).filter(([, value]) => value !== undefined));
}

/** Recognises our errors across two installed copies of the package. */
export function isBridgeError(error: unknown, code?: ErrorCode): error is BridgeError {
  return (
    typeof error === "object" &&
    error !== null &&
    BRAND in error &&
    (code === undefined || (error as { code?: unknown }).code === code)
  );
}

/** Any thrown thing as a BridgeError: files that refuse are FILE_FAILED, what is unknown INTERNAL, with its cause. */
export function toBridgeError(error: unknown, where: Where = {}): BridgeError {
  if (isBridgeError(error)) return error.at(where);
  if (error instanceof Error && error.name === "AbortError") {
    return new BridgeError("STOPPED", "Stopped on request.", { where, cause: error });
  }
  const fault = systemFault(error);
  if (fault !== undefined) return new BridgeError("FILE_FAILED", fault, { where, cause: error });
  const message = error instanceof Error ? error.message : String(error);
  return new BridgeError("INTERNAL", message, { where, cause: error });
}

/** Calls a function of a connector's author: what it throws is told as its own. @throws BridgeError FUNCTION_FAILED */
export function callOwn<T>(name: string, where: Where, work: () => T): T {
  try {
    return work();
  } catch (cause) {
    if (isBridgeError(cause)) throw cause;
    const words = cause instanceof Error ? cause.message : String(cause);
    throw new BridgeError("FUNCTION_FAILED", `The connector's own ${name} has thrown: ${words}`, {
      where,
      cause,
    });
  }
}

/** The place as one line, outermost first; empty when nothing is known. */
export function describeWhere(where: Where): string {
  const parts: string[] = [];
  if (where.file !== undefined) parts.push(where.file);
  if (where.bridge !== undefined) parts.push(`bridge ${where.bridge}`);
  if (where.account !== undefined) parts.push(`account ${where.account}`);
  if (where.stream !== undefined) parts.push(`stream ${where.stream}`);
  if (where.part !== undefined) parts.push(where.part);
  if (where.page !== undefined) parts.push(`page ${where.page}`);
  if (where.table !== undefined) parts.push(`table ${where.table}`);
  if (where.request !== undefined) parts.push(where.request);
  return parts.join(" · ");
}

/** A value's type within a sentence: `a list`, `an object`, `null`. */
export function aTypeName(value: unknown): string {
  const name = typeName(value);
  return name === "null" || name === "undefined" ? name : `${name === "object" ? "an" : "a"} ${name}`;
}

/** A value's type as messages name it. */
export function typeName(value: unknown): string {
  if (value === null) return "null";
  if (Array.isArray(value)) return "list";
  if (typeof value === "string") return "text";
  if (typeof value === "bigint") return "number";
  return typeof value;
}
