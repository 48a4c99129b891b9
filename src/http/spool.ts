/**
 * Long bodies: they arrive whole, in a file of ours, before any of them is read. So a download that breaks off is
 * tried again like any other request, and memory stays small however long the file is.
 */

import type { FileHandle } from "node:fs/promises";
import { tmpdir } from "node:os";
import { pipeline, type Readable } from "node:stream";
import { createGunzip } from "node:zlib";
import type { Decoder } from "../core/decode/choose-decoder.js";
import { brokenOff, csvDecoder } from "../core/decode/csv.js";
import { RowCutter } from "../core/decode/cut-rows.js";
import { isGzip, tooLarge } from "../core/decode/unpack.js";
import { BridgeError, isBridgeError, type Where } from "../core/errors.js";
import { openUnnamed } from "../system/unnamed-file.js";
import { unpacked } from "./content-coding.js";
import type { Spool, SpoolPiece } from "./send.js";

/** A file that has no name: it is gone when it is closed, or when the process ends. */
interface BodyFile {
  readonly file: FileHandle;
  readonly size: number;
}

/** A body in a file is not taken beyond this. */
const MOST_SPOOLED = 64 * 1024 ** 3;
/** One line, or one row, of a file is not longer than this. */
const LONGEST_LINE = 64 * 1024 * 1024;
const PIECE_BYTES = 2 * 1024 * 1024;
const READ_BYTES = 512 * 1024;

/** Reads a body; into a file when it grows too long. */
export async function readLongBody(
  source: AsyncIterable<Uint8Array>,
  encoding: string | undefined,
  spoolAbove: number,
): Promise<{ body: Uint8Array; spool?: Spool }> {
  const chunks: Uint8Array[] = [];
  let size = 0;
  let file: FileHandle | undefined;
  try {
    for await (const chunk of unpackedFile(unpacked(source, encoding))) {
      size += chunk.length;
      if (size > MOST_SPOOLED) throw tooLarge(MOST_SPOOLED, {});
      if (file === undefined) chunks.push(chunk);
      else await inFolder(file.writeFile(chunk));
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

/** A file that is packed by gzip, unpacked while it comes: what of it is damaged is found before any of it is read. */
async function* unpackedFile(source: AsyncIterable<Uint8Array>): AsyncGenerator<Uint8Array> {
  const chunks = source[Symbol.asyncIterator]();
  let head = Buffer.alloc(0);
  for (let next = await chunks.next(); next.done !== true; next = await chunks.next()) {
    head = Buffer.concat([head, next.value]);
    if (head.length >= 2) break;
  }
  const whole = async function* () {
    yield head;
    for (let next = await chunks.next(); next.done !== true; next = await chunks.next()) yield next.value;
  };
  yield* isGzip(head) ? pipeline(whole, createGunzip({ chunkSize: READ_BYTES }), () => {}) : whole();
}

function spoolOf(body: BodyFile): Spool {
  const close = () => body.file.close();
  return { size: body.size, pieces: (decoder, where) => spooledPieces(body, decoder, where), close };
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

/** A body in a file as pieces that are read like bodies of their own. The file is closed at the end. */
async function* spooledPieces(spool: BodyFile, decoder: Decoder, where: Where): AsyncGenerator<SpoolPiece> {
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
    const csv = decoder.kind === "csv" ? decoder.csv : undefined;
    // in another encoding the last piece tells
    if (csv?.final_line_break === true && isLikeAscii(csv.encoding)) await checkLastByte(spool, where);
    const bytes = file.createReadStream({ start: 0, autoClose: false, highWaterMark: READ_BYTES });
    yield* cutPieces(bytes, decoder, where);
  } finally {
    await file.close().catch(() => {});
  }
}

async function* cutPieces(source: Readable, decoder: Decoder, where: Where): AsyncGenerator<SpoolPiece> {
  const csv = decoder.kind === "csv" ? decoder.csv : undefined;
  const isRecoded = csv !== undefined && !isLikeAscii(csv.encoding);
  const pieceDecoder = isRecoded ? csvDecoder({ ...csv, encoding: "utf-8" }) : decoder;
  const cutter = new RowCutter(csv, PIECE_BYTES);
  try {
    for await (const chunk of isRecoded ? recoded(source, csv.encoding) : source) {
      const piece = cutter.push(chunk as Uint8Array);
      if (piece !== undefined) yield { ...piece, decoder: pieceDecoder };
      if (cutter.waiting > LONGEST_LINE) throw tooLarge(LONGEST_LINE, where);
    }
  } catch (cause) {
    if (isBridgeError(cause)) throw cause;
    throw unreadable(cause as Error, where);
  }
  yield { ...cutter.end(), decoder: pieceDecoder };
}

/** Encodings in which the bytes of a quote or a line end may be parts of other characters. */
const isLikeAscii = (encoding: string) => !/^(utf-?16|iso-?2022|csiso2022|ucs-2|unicode$)/i.test(encoding);

async function* recoded(source: Readable, encoding: string): AsyncGenerator<Uint8Array> {
  const decoder = new TextDecoder(encoding, { fatal: true });
  const encoder = new TextEncoder();
  for await (const chunk of source)
    yield encoder.encode(decoder.decode(chunk as Uint8Array, { stream: true }));
  yield encoder.encode(decoder.decode());
}

function unreadable(cause: Error, where: Where): BridgeError {
  return new BridgeError("BODY_UNREADABLE", `The response cannot be read: ${cause.message}.`, {
    where,
    cause,
  });
}

/** A file that is said to end with a line break must. */
async function checkLastByte({ file, size }: BodyFile, where: Where): Promise<void> {
  const last = Buffer.alloc(1);
  await file.read(last, 0, 1, size - 1);
  if (last[0] !== 0x0a) throw brokenOff(where);
}
