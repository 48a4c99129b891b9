/**
 * Values as a filter writes them: OData 4.01 ABNF (primitiveLiteral); OData 2.0, "Abstract Type System", section 6.
 * Each has one form per type and version.
 */

import type { ODataVersion } from "./model.js";

/** Whether the version writes as 2.0 does. */
export function isOld(version: ODataVersion): boolean {
  return version === "2.0" || version === "3.0";
}

/** A text in quotes; a quote within is doubled. */
export function quoted(text: string): string {
  return `'${text.replaceAll("'", "''")}'`;
}

/** The literal of a value, which is given as the service writes it in JSON; not yet encoded for an address. */
export function literalOf(type: string, text: string, version: ODataVersion): string {
  const name = type.replace(/^Edm\./, "");
  switch (name) {
    case "String":
      return quoted(text);
    case "Duration":
      return isOld(version) ? `time'${text}'` : `duration'${text}'`;
    case "Binary":
      return isOld(version) ? `X'${hexOf(text)}'` : `binary'${text}'`;
    case "DateTimeOffset":
      return isOld(version) ? `datetimeoffset'${text}'` : text;
    case "DateTime":
      return `datetime'${text.replace(/Z$/, "")}'`;
    case "Time":
      return `time'${text}'`;
    case "Guid":
      return isOld(version) ? `guid'${text}'` : text;
    case "Int64":
      return isOld(version) ? `${text}L` : text;
    case "Decimal":
      return isOld(version) ? `${text}M` : text;
    case "Single":
      return isOld(version) ? `${text}f` : text;
    case "Double":
      return isOld(version) ? `${text}d` : text;
    // numbers, booleans, dates and times of the day stand as they are
    default:
      return text;
  }
}

/** The value that a literal stands for, as the service writes it in JSON; undefined where it is none of the type. */
export function valueOfLiteral(type: string, literal: string, version: ODataVersion): string | undefined {
  const name = type.replace(/^Edm\./, "");
  const inQuotes = (prefix: string) => new RegExp(`^${prefix}'([\\s\\S]*)'$`).exec(literal)?.[1];
  const suffixed = (suffix: string) => new RegExp(`^([^']*)${suffix}$`, "i").exec(literal)?.[1];
  const old = isOld(version);
  if (name === "String") return inQuotes("")?.replaceAll("''", "'");
  if (name === "Duration") return inQuotes(old ? "time" : "duration");
  if (name === "DateTime") return inQuotes("datetime");
  if (name === "Time") return inQuotes("time");
  if (name === "Binary") return old ? base64Of(inQuotes("X") ?? inQuotes("binary")) : inQuotes("binary");
  if (!old) return literal.includes("'") ? undefined : literal;
  if (name === "DateTimeOffset") return inQuotes("datetimeoffset");
  if (name === "Guid") return inQuotes("guid");
  const suffix = { Int64: "L", Decimal: "M", Single: "f", Double: "d" }[name];
  return suffix === undefined ? (literal.includes("'") ? undefined : literal) : suffixed(suffix);
}

function hexOf(base64: string): string {
  const bytes = atob(base64.replaceAll("-", "+").replaceAll("_", "/"));
  return Array.from(bytes, (char) => char.charCodeAt(0).toString(16).padStart(2, "0"))
    .join("")
    .toUpperCase();
}

function base64Of(hex: string | undefined): string | undefined {
  if (hex === undefined || !/^([0-9a-f]{2})*$/i.test(hex)) return undefined;
  const bytes = hex.match(/../g) ?? [];
  return btoa(String.fromCharCode(...bytes.map((each) => Number.parseInt(each, 16))));
}
