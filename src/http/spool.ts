/**
 * Long bodies: they arrive whole, in a file of ours, before any of them is read. So a download that breaks off is
 * tried again like any other request, and memory stays small however long the file is.
 */

import { randomBytes } from "node:crypto";
import { type FileHandle, open, unlink } from "node:fs/promises";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { pipeline, Readable } from "node:stream";
import { createGunzip } from "node:zlib";
import { parse } from "csv-parse";
import type { Decoder } from "../core/decode/choose-decoder.js";
import { brokenOff, type CsvDecoder, csvError, csvOptions } from "../core/decode/csv.js";
import { linesToRecords } from "../core/decode/json-lines.js";
import { columnNames, nameFields } from "../core/decode/rows.js";
import { tooLarge } from "../core/decode/unpack.js";
import { BridgeError, type Where } from "../core/errors.js";
import { unpackStream } from "./content-coding.js";
import type { Spool } from "./send.js";

/** A file that has no name: it is gone when it is closed, or when the process ends. */
interface BodyFile {
  readonly file: FileHandle;
  readonly size: number;
}

/** A body in a file is not taken beyond this. */
const MOST_SPOOLED = 64 * 1024 ** 3;
/** One line, or one row, of a file is not longer than this. */
const LONGEST_LINE = 64 * 1024 * 1024;
const RECORDS_PER_PAGE = 5000;

/** Reads a body; into a file when it grows too long. */
export async function readLongBody(
  source: Readable,
  encoding: string | undefined,
  spoolAbove: number,
): Promise<{ body: Uint8Array; spool?: Spool }> {
  const chunks: Buffer[] = [];
  let size = 0;
  let file: FileHandle | undefined;
  try {
    for await (const chunk of unpackStream(source, encoding)) {
      size += (chunk as Buffer).length;
      if (size > MOST_SPOOLED) throw tooLarge(MOST_SPOOLED, {});
      if (file === undefined) chunks.push(chunk as Buffer);
      else await inFolder(file.writeFile(chunk as Buffer));
      if (file !== undefined || size <= spoolAbove) continue;
      file = await inFolder(openUnnamed());
      for (const early of chunks.splice(0)) await inFolder(file.writeFile(early));
    }
  } catch (error) {
    await file?.close();
    throw error;
  }
  return file === undefined
    ? { body: Buffer.concat(chunks) }
    : { body: new Uint8Array(), spool: spoolOf({ file, size }) };
}

function spoolOf(body: BodyFile): Spool {
  const close = () => body.file.close();
  return { size: body.size, records: (decoder, where) => spooledRecords(body, decoder, where), close };
}

/** What goes wrong with our own file is no fault of the API's: nothing is asked for again. */
async function inFolder<T>(work: Promise<T>): Promise<T> {
  try {
    return await work;
  } catch (cause) {
    const { code, message } = cause as NodeJS.ErrnoException;
    const why = code === "ENOSPC" ? "it is full" : message;
    throw new BridgeError(
      "FILE_UNWRITABLE",
      `A long response cannot be kept in the temporary folder ${tmpdir()}: ${why}.`,
      { hint: "Make room there, or name a folder that has some in the environment variable TMPDIR.", cause },
    );
  }
}

async function openUnnamed(): Promise<FileHandle> {
  const path = join(tmpdir(), `early-bridge-${randomBytes(12).toString("hex")}`);
  const file = await open(path, "wx+", 0o600);
  // where an open file cannot be removed, the system's own clean-up does it
  await unlink(path).catch(() => {});
  return file;
}

/** The records of a body in a file, some thousands at a time. The file is closed at the end. */
async function* spooledRecords(spool: BodyFile, decoder: Decoder, where: Where): AsyncGenerator<unknown[]> {
  const { file } = spool;
  try {
    const magic = Buffer.alloc(4);
    await file.read(magic, 0, 4, 0);
    if (magic.readUInt32BE(0) === 0x504b0304)
      throw new BridgeError(
        "BODY_TOO_LARGE",
        `The zip file of ${spool.size} bytes is too large to be unpacked.`,
        { where },
      );
    if (decoder.kind === "csv" && decoder.csv.final_line_break && magic[0] !== 0x1f)
      await checkLastByte(spool, where);
    const bytes = file.createReadStream({ start: 0, autoClose: false });
    const plain = magic[0] === 0x1f && magic[1] === 0x8b ? pipeline(bytes, createGunzip(), () => {}) : bytes;
    const encoding = decoder.kind === "csv" ? decoder.csv.encoding : "utf-8";
    const text = Readable.from(decodedText(plain, encoding, where));
    yield* decoder.kind === "csv" ? csvRecords(text, decoder.csv, where) : lineRecords(text, where);
  } finally {
    await file.close().catch(() => {});
  }
}

/** A packed file has its own check; a plain one that is said to end with a line break must. */
async function checkLastByte({ file, size }: BodyFile, where: Where): Promise<void> {
  const last = Buffer.alloc(1);
  await file.read(last, 0, 1, size - 1);
  if (last[0] !== 0x0a) throw brokenOff(where);
}

async function* decodedText(bytes: Readable, encoding: string, where: Where): AsyncGenerator<string> {
  const decoder = new TextDecoder(encoding, { fatal: true });
  try {
    for await (const chunk of bytes) yield decoder.decode(chunk as Uint8Array, { stream: true });
    yield decoder.decode();
  } catch (cause) {
    const message = `The response of ${encoding} text cannot be read: ${(cause as Error).message}.`;
    throw new BridgeError("BODY_UNREADABLE", message, { where, cause });
  }
}

async function* csvRecords(text: Readable, csv: CsvDecoder["csv"], where: Where): AsyncGenerator<unknown[]> {
  const rows = pipeline(
    text,
    parse({ ...(csvOptions(csv) as object), max_record_size: LONGEST_LINE }),
    () => {},
  );
  let names = csv.header === true ? undefined : columnNames(csv.header);
  let records: unknown[] = [];
  try {
    for await (const row of rows) {
      if (names === undefined) names = columnNames(row as unknown[]);
      else records.push(nameFields(row as unknown[], names));
      if (records.length < RECORDS_PER_PAGE) continue;
      yield records;
      records = [];
    }
  } catch (cause) {
    throw csvError(cause, where);
  }
  yield records;
}

async function* lineRecords(text: Readable, where: Where): AsyncGenerator<unknown[]> {
  let rest = "";
  let lines: string[] = [];
  for await (const chunk of text) {
    const pieces = (rest + String(chunk)).split("\n");
    rest = pieces.pop() ?? "";
    if (rest.length > LONGEST_LINE) throw tooLarge(LONGEST_LINE, where);
    lines.push(...pieces);
    if (lines.length < RECORDS_PER_PAGE) continue;
    // whole lines: an empty one at the end tells that none of them breaks off
    yield linesToRecords([...lines, ""], where);
    lines = [];
  }
  yield linesToRecords([...lines, rest], where);
}
