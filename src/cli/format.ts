/** Numbers, times and errors as the command line writes them. */

import colors from "picocolors";
import { type BridgeError, describeWhere } from "../core/errors.js";

/** The text, or as much of it as there is room for. */
export function clipped(text: string, width: number): string {
  return text.length > width ? `${text.slice(0, width - 1)}…` : text;
}

/** `20000` → `20,000`. */
export function countText(value: number): string {
  // Intl reads its tables first: a tenth of a short command's time
  return String(Math.round(value)).replace(/\B(?=(?:\d{3})+$)/g, ",");
}

/** `1 page`, `34 pages`. */
export function countOf(value: number, one: string): string {
  return `${countText(value)} ${one}${value === 1 ? "" : "s"}`;
}

/** `840 ms`, `2.6 s`, `3 min 20 s`, `2 h 5 min`. */
export function timeText(ms: number): string {
  if (ms < 1000) return `${Math.round(ms)} ms`;
  if (ms < 60_000) return `${(ms / 1000).toFixed(1)} s`;
  const minutes = Math.floor(ms / 60_000);
  if (minutes < 60) return `${minutes} min ${Math.round((ms % 60_000) / 1000)} s`;
  return `${Math.floor(minutes / 60)} h ${minutes % 60} min`;
}

/** `2026-03-01 10:00:00Z`: a moment, in UTC. */
export function momentText(ms: number): string {
  return new Date(ms).toISOString().replace("T", " ").slice(0, 19).concat("Z");
}

/** `11.2 MB`. */
export function bytesText(bytes: number): string {
  return bytes < 1e6 ? `${(bytes / 1e3).toFixed(1)} kB` : `${(bytes / 1e6).toFixed(1)} MB`;
}

/** `broken_off` → `broken off`: a value of the ledger, for people. */
export function plainWords(value: string): string {
  return value.replaceAll("_", " ");
}

/** An error on three lines: code and what was seen, where, what to do. */
export function errorText(error: BridgeError): string {
  const lines = [`${colors.red(error.code)}  ${error.message}`];
  const where = describeWhere(error.where);
  if (where !== "") lines.push(`  ${colors.dim("where")}  ${where}`);
  lines.push(`  ${colors.dim("next")}   ${error.hint}`);
  return lines.join("\n");
}
