/** Connections to a MariaDB or MySQL server, through the driver `mysql2`. */

import { readFile } from "node:fs/promises";
import { isIP } from "node:net";
import { Readable } from "node:stream";
import mysql from "mysql2/promise";
import { BridgeError } from "../../core/errors.js";
import type { SqlRow, SqlValue } from "../sql/dialect.js";
import { ServerErrors } from "../sql/server-errors.js";
import type { ServerConnection } from "../sql/server-session.js";
import { runConditional } from "./conditional.js";
import { isRecent, makeOf, type ServerMake } from "./make.js";

/** A connection that files of rows can be loaded on. */
export interface MysqlConnection extends ServerConnection {
  /** Sends a LOAD DATA LOCAL INFILE and what it reads; false where the server allows none. */
  load(sql: string, chunk: Uint8Array): Promise<boolean>;
}

const CONNECT_MS = 15_000;

const SETTINGS = [
  "SET time_zone = '+00:00'",
  // names stand in double quotes; what does not fit is an error, and no other value
  "SET sql_mode = 'STRICT_ALL_TABLES,NO_ENGINE_SUBSTITUTION,ERROR_FOR_DIVISION_BY_ZERO,ANSI_QUOTES,PIPES_AS_CONCAT'",
  // a statement reads what is committed by then
  "SET SESSION TRANSACTION ISOLATION LEVEL READ COMMITTED",
  // somebody's open transaction must not hold a run for ever
  "SET SESSION innodb_lock_wait_timeout = 600, SESSION lock_wait_timeout = 600",
  "SET SESSION group_concat_max_len = 1000000",
];

/**
 * Connects.
 * @throws BridgeError WAREHOUSE_UNREACHABLE, URL_INVALID
 */
export async function connectTo(make: ServerMake, url: string, readOnly: boolean): Promise<MysqlConnection> {
  const errors = errorsOf(make, url);
  const options = await optionsOf(make, url).catch((error: unknown) => {
    throw errors.unreachable(error);
  });
  const connection = await mysql.createConnection(options).catch((error: unknown) => {
    throw errors.unreachable(error);
  });
  let isLost = false;
  let isOpen = false;
  connection.on("error", () => {
    isLost = true;
  });
  const told = (error: Error) => {
    isLost ||= isLoss(error);
    throw errors.failed(error, isLost);
  };
  const query = async (sql: string, values: readonly SqlValue[] = []) => {
    const [found] = await connection.query(...marked(sql, values));
    return Array.isArray(found) ? (found as SqlRow[]) : [];
  };
  const rows = (sql: string, values?: readonly SqlValue[]) => query(sql, values).catch(told);
  try {
    await checkServer(make, rows);
    for (const setting of SETTINGS) await rows(setting);
    for (const wish of make.wishes) await query(wish).catch(() => {});
    if (readOnly) await rows("SET SESSION TRANSACTION READ ONLY");
  } catch (error) {
    connection.destroy();
    throw error;
  }
  return {
    rows,
    run: async (sql, values) => {
      // rows may have gone into tables in what a commit ends: to begin once more would commit them
      if (sql === "BEGIN" && isOpen) return;
      if (sql === "COMMIT" || sql === "ROLLBACK") isOpen = false;
      else isOpen ||= sql === "BEGIN";
      if (!make.knowsIfExists && values === undefined) return runConditional(sql, query).catch(told);
      await rows(sql, values);
    },
    load: async (sql, chunk) => {
      const infileStreamFactory = () => Readable.from(packets(chunk));
      try {
        const [result] = await connection.query({ sql, infileStreamFactory });
        const { warningStatus } = result as mysql.ResultSetHeader;
        // with LOCAL, what does not fit is a warning, and another value
        if (warningStatus > 0) throw await firstWarning(rows);
        return true;
      } catch (error) {
        if (NOT_ALLOWED.has((error as mysql.QueryError).errno ?? 0)) return false;
        return told(error as Error);
      }
    },
    get isLost() {
      return isLost;
    },
    get isOpen() {
      return isOpen;
    },
    close: () => connection.end().catch(() => {}),
  };
}

const PACKET_BYTES = 1024 * 1024;

/** What is sent becomes one packet for each buffer, and those have a limit. */
function* packets(chunk: Uint8Array): Generator<Buffer> {
  for (let from = 0; from < chunk.length; from += PACKET_BYTES)
    yield Buffer.from(chunk.buffer, chunk.byteOffset + from, Math.min(PACKET_BYTES, chunk.length - from));
}

/** What a server says that lets no client send a file: error codes of MariaDB, the older one first, and of MySQL. */
const NOT_ALLOWED: ReadonlySet<number> = new Set([1148, 4166, 3948]);

async function firstWarning(rows: (sql: string) => Promise<readonly SqlRow[]>): Promise<Error> {
  const [warning] = await rows("SHOW WARNINGS LIMIT 1");
  return new Error(String(warning?.Message ?? "some values did not fit"));
}

/** A statement with `$1`, `$2`, … as the driver takes it: a mark for each, and its value. */
function marked(sql: string, values: readonly SqlValue[]): [string, SqlValue[]] {
  if (values.length === 0) return [sql, []];
  const inOrder: SqlValue[] = [];
  const text = sql.replace(/\$(\d+)/g, (_, number: string) => {
    inOrder.push(values[Number(number) - 1] ?? null);
    return "?";
  });
  return [text, inOrder];
}

/** Whole numbers, decimals and times stay as the server writes them; a TINYINT(1) is a boolean. */
const typeCast: mysql.TypeCast = (field) => {
  const text = field.string();
  return field.type === "TINY" && field.length === 1 && text !== null ? text === "1" : text;
};

async function optionsOf(make: ServerMake, address: string): Promise<mysql.ConnectionOptions> {
  const url = parsed(make, address);
  const query = url.searchParams;
  const socketPath = query.get("socket") ?? undefined;
  return {
    ...(socketPath === undefined
      ? { host: url.hostname || "localhost", port: Number(url.port || 3306) }
      : {}),
    ...(socketPath === undefined ? {} : { socketPath }),
    user: decodeURIComponent(url.username),
    password: decodeURIComponent(url.password),
    charset: "utf8mb4_bin",
    connectTimeout: CONNECT_MS,
    enableKeepAlive: true,
    flags: ["+LOCAL_FILES"],
    typeCast,
    ...(await tlsOf(make, url)),
  };
}

function parsed({ title, word }: ServerMake, address: string): URL {
  if (URL.canParse(address) && /^(?:mariadb|mysql):$/.test(new URL(address).protocol))
    return new URL(address);
  throw new BridgeError("URL_INVALID", `The address of the ${title} warehouse cannot be read.`, {
    hint: `Write ${word}://user:password@host:3306, with what is no letter or digit in percent form.`,
  });
}

/** Whoever asks for TLS has the certificate checked, also against the host name. */
async function tlsOf(
  { title }: ServerMake,
  { hostname, searchParams: query }: URL,
): Promise<Pick<mysql.ConnectionOptions, "ssl">> {
  const mode = query.get("ssl-mode") ?? "disabled";
  if (mode.toLowerCase() === "disabled") return {};
  // the driver compares a certificate with names alone
  if (isIP(hostname.replace(/^\[|\]$/g, "")) > 0)
    throw new BridgeError(
      "URL_INVALID",
      `The address of the ${title} warehouse has a number where TLS needs a name.`,
      {
        hint: "Write the host's name, as it stands in the server's certificate.",
      },
    );
  const authority = query.get("ssl-ca");
  const ca = authority === null ? {} : { ca: await readFile(authority, "utf8") };
  return { ssl: { ...ca, rejectUnauthorized: true, verifyIdentity: true } };
}

async function checkServer(
  make: ServerMake,
  rows: (sql: string) => Promise<readonly SqlRow[]>,
): Promise<void> {
  const [row] = await rows("SELECT version() AS version");
  const version = String(row?.version);
  const found = makeOf(version);
  if (found === make && isRecent(version, make)) return;
  throw new BridgeError("WAREHOUSE_UNREACHABLE", `The server is ${found.title} of version ${version}.`, {
    hint:
      found === make
        ? `Use ${make.title} ${make.least.join(".")} or a later one.`
        : `Put its address under ${found.word}:, not under ${make.word}: (in code, use ${found.word}() of early-bridge/${found.word}).`,
  });
}

const DENIED = "Check user and password of the warehouse's address.";

const NO_OWN_KEY =
  "Have the administrator set sql_require_primary_key and sql_generate_invisible_primary_key to OFF, " +
  "or grant SESSION_VARIABLES_ADMIN to the bridge's user, which then does so for itself.";

/** What to do, by the code of the server or of the system. */
const HINTS: Readonly<Record<string, string>> = {
  ER_ACCESS_DENIED_ERROR: DENIED,
  ER_ACCESS_DENIED_NO_PASSWORD_ERROR: DENIED,
  ER_HOST_NOT_PRIVILEGED: "Check the user, and from where the server lets it in.",
  ER_CON_COUNT_ERROR:
    "The server takes no more connections: raise max_connections, or run fewer bridges at a time.",
  ER_TABLE_WITHOUT_PK: NO_OWN_KEY,
  ER_MULTIPLE_PRI_KEY: NO_OWN_KEY,
  HANDSHAKE_NO_SSL_SUPPORT: "Have the server speak TLS, or leave ssl-mode out where the way to it is safe.",
  HANDSHAKE_SSL_ERROR:
    "Check the server's certificate; ssl-ca=… of the address names an authority of your own.",
  ECONNREFUSED: "Check host and port; is the server running?",
  ENOTFOUND: "Check the host name in the warehouse's address, and the network.",
  ENOENT: "Check the path of the socket, or of the authority's file; is the server running?",
};

const codeOf = (error: Error) => (error as NodeJS.ErrnoException).code ?? "";

const errorsOf = (make: ServerMake, url: string) =>
  new ServerErrors({
    title: make.title,
    place: placeOf(make, url),
    hintOf: (error) => HINTS[codeOf(error)],
    isLoss,
  });

/** Whether the connection is gone: by codes of the system, the driver and the server. */
function isLoss(error: Error): boolean {
  const { fatal } = error as mysql.QueryError;
  return (
    fatal === true ||
    /^(?:PROTOCOL_|E[A-Z]+$|ER_SERVER_SHUTDOWN|ER_CONNECTION_KILLED)/.test(codeOf(error)) ||
    error.message.includes("closed state")
  );
}

/** The server, without user and password. */
export function placeOf({ title }: ServerMake, address: string): string {
  const { hostname, port, searchParams } = URL.canParse(address) ? new URL(address) : new URL("mysql://");
  const host = searchParams.get("socket") ?? (hostname || "localhost");
  return `${title} on ${host}${port === "" ? "" : `:${port}`}`;
}
