/** XML as a tree of JSON values. */

import { XMLParser, XMLValidator } from "fast-xml-parser";
import { BridgeError, type Where } from "../errors.js";
import type { BodyDecoder } from "./decoder.js";
import { decodeText, isWebPage, webPage } from "./text.js";

/** `records` and `lists` tell which elements are lists even where there is one only. */
export function xmlDecoder(records: readonly string[], lists: readonly string[]): BodyDecoder<"xml"> {
  const parser = xmlParser(records, lists);
  return { kind: "xml", inPieces: false, decode: (bytes, where) => [readXml(bytes, parser, where)] };
}

/** Marks that no element can be called by: what is an attribute, and the text of an element that has more than that. */
const ATTRIBUTE = "@";
const TEXT = "#text";

/** Elements and attributes in one tree, without name-space prefixes; every value stays text. */
function xmlParser(records: readonly string[], lists: readonly string[]): XMLParser {
  const recordLists = records.flatMap((path) => /^\$\.([A-Za-z0-9_.-]+)\[\*\]$/.exec(path)?.[1] ?? []);
  const isList = new Set([...recordLists, ...lists]);
  return new XMLParser({
    ignoreAttributes: false,
    attributeNamePrefix: ATTRIBUTE,
    trimValues: false,
    removeNSPrefix: true,
    parseTagValue: false,
    parseAttributeValue: false,
    textNodeName: TEXT,
    ignoreDeclaration: true,
    ignorePiTags: true,
    htmlEntities: true,
    isArray: (_name, path, _leaf, isAttribute) => {
      const text = String(path);
      // a list inside of records is named from the record on
      return (
        !isAttribute &&
        (isList.has(text) || recordLists.some((list) => isList.has(text.slice(list.length + 1))))
      );
    },
  });
}

function readXml(bytes: Uint8Array, parser: XMLParser, where: Where): unknown {
  const declared = /^<\?xml[^>]*encoding=["']([\w-]+)["']/.exec(
    new TextDecoder("latin1").decode(bytes.subarray(0, 200)),
  )?.[1];
  const text = decodeText(bytes, declared ?? "utf-8", where);
  if (isWebPage(text)) throw webPage(bytes, "XML", where);
  const valid = XMLValidator.validate(text);
  if (valid !== true) {
    const { msg, line } = valid.err;
    const cut = !/>\s*$/.test(text) || /^Unclosed/.test(msg);
    const message = cut
      ? `The XML breaks off after ${bytes.length} bytes.`
      : `The response is not valid XML: ${msg} (line ${line}).`;
    throw new BridgeError(cut ? "BODY_TRUNCATED" : "BODY_UNREADABLE", message, { where });
  }
  try {
    return withPlainNames(parser.parse(text));
  } catch (cause) {
    // the package has limits for what nests, and for entities
    const message = `The XML cannot be read: ${(cause as Error).message}.`;
    throw new BridgeError("BODY_UNREADABLE", message, { where, cause });
  }
}

/**
 * The tree with plain names: an attribute is called as it is, and an element's own text `text`, unless a child has that
 * name. Blanks between elements are no text.
 */
function withPlainNames(value: unknown): unknown {
  if (Array.isArray(value)) return value.map(withPlainNames);
  if (typeof value === "string") return /^\s*\n\s*$/.test(value) ? "" : value;
  if (typeof value !== "object" || value === null) return value;
  const children = new Map(Object.entries(value));
  const hasElements = [...children.keys()].some((name) => name !== TEXT && !name.startsWith(ATTRIBUTE));
  const plain: Record<string, unknown> = {};
  for (const [name, child] of children) {
    if (name === TEXT && /^\s*$/.test(String(child)) && (hasElements || String(child).includes("\n")))
      continue;
    const bare = name === TEXT ? "text" : name.startsWith(ATTRIBUTE) ? name.slice(ATTRIBUTE.length) : name;
    const isTaken = bare !== name && (children.has(bare) || Object.hasOwn(plain, bare));
    plain[isTaken ? name : bare] = withPlainNames(child);
  }
  return plain;
}
