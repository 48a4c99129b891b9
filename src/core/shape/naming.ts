/** Names of tables and columns: made from JSON keys, the same way on every run. */

import { isManyStep, keyOfStep, stepOfKey } from "./steps.js";

/** What a warehouse permits in a name. */
export interface NameRules {
  /** bytes of UTF-8, at most */
  readonly maxBytes: number;
}

/** `leadGuest.eMail` → `lead_guest_e_mail`: snake case, lower case, letters and digits of any script. */
export function snakeCase(text: string): string {
  const name = text
    .normalize("NFC")
    .replace(/(\p{Ll}|\p{N})(\p{Lu})/gu, "$1_$2")
    .replace(/(\p{Lu})(\p{Lu}\p{Ll})/gu, "$1_$2")
    .toLowerCase()
    .replace(/[^\p{L}\p{M}\p{N}]+/gu, "_")
    .replace(/^_+|_+$/g, "");
  if (name === "") return "field";
  return /^\p{N}/u.test(name) ? `_${name}` : name;
}

/**
 * The name for a JSON path among names already taken. A name that is too long, or taken by another path, ends
 * in `_` and six hexadecimal digits of the path's hash: the same path gets the same ending on every run.
 */
export function nameForPath(parts: readonly string[], taken: ReadonlySet<string>, rules: NameRules): string {
  // only a name's first sign must be no digit
  const plain = parts
    .map((part, i) => (i > 0 ? snakeCase(part).replace(/^_/, "") : snakeCase(part)))
    .join("_");
  if (utf8Length(plain) <= rules.maxBytes && !taken.has(plain)) return plain;
  for (let round = 0; ; round++) {
    const ending = `_${shortHash(`${round === 0 ? "" : round}${JSON.stringify(parts)}`)}`;
    const name = cutToBytes(plain, rules.maxBytes - ending.length) + ending;
    if (!taken.has(name)) return name;
  }
}

/** A path as users write it: `lead_guest.email`, `guests[*].name`, `rates{*}`; keys with other signs are quoted. */
export function formatPath(parts: readonly string[]): string {
  let text = "";
  for (const part of parts) {
    if (isManyStep(part)) text += part;
    else if (/^[\p{L}_$][\p{L}\p{M}\p{N}_$-]*$/u.test(part)) text += text === "" ? part : `.${part}`;
    else text += `[${JSON.stringify(keyOfStep(part))}]`;
  }
  return text;
}

/** Which of two paths goes before: the one of fewer steps, else by their texts. It does not hang on who came first. */
export function comparePaths(left: readonly string[], right: readonly string[]): number {
  if (left.length !== right.length) return left.length - right.length;
  const [a, b] = [formatPath(left), formatPath(right)];
  return a < b ? -1 : Number(a > b);
}

/** The parts of a path that `formatPath` wrote or a user did; undefined where it cannot be read. */
export function parsePath(text: string): string[] | undefined {
  const parts: string[] = [];
  const pattern = /(\[\*\]|\{\*\})|\[("(?:[^"\\]|\\.)*")\]|(?:^|\.)((?:(?!\{\*\})[^.[\]"])+)/gy;
  while (pattern.lastIndex < text.length) {
    const match = pattern.exec(text);
    if (match === null) return undefined;
    if (match[2] === undefined) parts.push(match[1] ?? match[3]!);
    else parts.push(stepOfKey(JSON.parse(match[2]) as string));
  }
  return parts.length === 0 ? undefined : parts;
}

/** The parts of a field's path; a text that cannot be read is a key as it stands. */
export function fieldParts(path: string): string[] {
  return parsePath(path) ?? [path];
}

/** A path, and those of the objects that it leads through. */
export function pathsTo(path: string): string[] {
  const steps = parsePath(path) ?? [];
  return steps.map((_, i) => formatPath(steps.slice(0, i + 1)));
}

function utf8Length(text: string): number {
  return new TextEncoder().encode(text).length;
}

function cutToBytes(text: string, maxBytes: number): string {
  let cut = text;
  while (utf8Length(cut) > maxBytes) cut = [...cut].slice(0, -1).join("");
  return cut.replace(/_+$/, "");
}

/** FNV-1a, 32 bits, first six of its eight hexadecimal digits. */
function shortHash(text: string): string {
  let hash = 0x811c9dc5;
  for (const byte of new TextEncoder().encode(text)) hash = Math.imul(hash ^ byte, 0x01000193) >>> 0;
  return hash.toString(16).padStart(8, "0").slice(0, 6);
}
