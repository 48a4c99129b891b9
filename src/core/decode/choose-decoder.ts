/** The decoder that a connector's `response` asks for; any body may be packed. */

import type { ResponseDefinition } from "../define/ask-schema.js";
import { compileJsonPath } from "../language/json-path.js";
import { type CsvDecoder, csvDecoder } from "./csv.js";
import type { BodyDecoder } from "./decoder.js";
import { type JsonDecoder, jsonDecoder } from "./json.js";
import { jsonLinesDecoder } from "./json-lines.js";
import { unpack } from "./unpack.js";
import { xmlDecoder } from "./xml.js";

/** Any of the decoders; `kind` tells which. */
export type Decoder = JsonDecoder | CsvDecoder | BodyDecoder<"json_lines"> | BodyDecoder<"xml">;

/** `records` tells which XML elements are lists even where there is one only. */
export function chooseDecoder(response: ResponseDefinition, records: readonly string[]): Decoder {
  const plain = plainDecoder(response, records);
  const decode: Decoder["decode"] = (bytes, where) =>
    unpack(bytes, where).flatMap((body) => plain.decode(body, where));
  return { ...plain, decode };
}

function plainDecoder(response: ResponseDefinition, records: readonly string[]): Decoder {
  if (response === "json_lines") return jsonLinesDecoder();
  if (response === "csv") return csvDecoder();
  if (response === "xml") return xmlDecoder(records, []);
  if (response === "json") return jsonDecoder();
  if ("csv" in response) return csvDecoder(response.csv);
  if ("xml" in response) return xmlDecoder(records, response.xml.lists);
  const { header_row: headerRow, names } = response.json;
  return jsonDecoder({ headerRow, names: names === undefined ? undefined : compileJsonPath(names) });
}
