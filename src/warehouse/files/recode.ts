/** Text in UTF-8 into another encoding; a sign that it does not have is an error, never a question mark. */

import { Transform } from "node:stream";
import { StringDecoder } from "node:string_decoder";
import iconv from "iconv-lite";
import type { FilesOptions } from "../../core/define/files-schema.js";
import { BridgeError } from "../../core/errors.js";

type Encoding = FilesOptions["csv"]["encoding"];

/** Streams that recode what flows through them. */
export function recoded(encoding: Encoding): Transform[] {
  if (encoding === "utf-8") return [];
  const decoder = new StringDecoder("utf8");
  let isFirst = true;
  const encode = (text: string): Buffer => {
    const mark = isFirst && encoding.startsWith("utf") ? "\uFEFF" : "";
    isFirst = false;
    if (encoding === "utf-8-bom") return Buffer.from(mark + text, "utf8");
    const bytes = iconv.encode(mark + text, encoding);
    if (encoding !== "utf-16le") checkKept(text, bytes, encoding);
    return bytes;
  };
  return [
    new Transform({
      transform(piece: Buffer, _, done) {
        try {
          done(null, encode(decoder.write(piece)));
        } catch (error) {
          done(error as Error);
        }
      },
      flush(done) {
        done(null, Buffer.alloc(0));
      },
    }),
  ];
}

/** @throws BridgeError FILE_UNWRITABLE */
function checkKept(text: string, bytes: Buffer, encoding: Encoding): void {
  const back = iconv.decode(bytes, encoding);
  if (back === text) return;
  const signs = [...text];
  const others = [...back];
  const lost = signs.find((sign, i) => sign !== others[i]) ?? "";
  const code = lost.codePointAt(0)?.toString(16).toUpperCase().padStart(4, "0");
  throw new BridgeError(
    "FILE_UNWRITABLE",
    `A text has the sign ${lost} (U+${code}), which ${encoding} does not have.`,
    {
      hint: "Choose encoding: utf-8, or mask or drop the column. Nothing of this commit was written.",
    },
  );
}
