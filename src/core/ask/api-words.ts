/** What an API says of a failure in its own words, wherever it puts them. Pure. */

import { isPlainObject } from "../shape/exact-json.js";

/** Where APIs put a sentence for people, the most telling first; RFC 9457 has detail and title. */
const SENTENCES = [
  "detail",
  "error_description",
  "message",
  "error_message",
  "errorMessage",
  "msg",
  "reason",
  "description",
  "faultstring",
  "title",
] as const;
/** Where they put a code, to be read before the sentence. */
const CODES = ["title", "error", "code", "error_code", "errorCode", "type"] as const;
/** Where the failure is an object or a list of its own. */
const NESTED = ["error", "errors", "odata.error", "fault", "exception", "problem"] as const;
const LONGEST = 300;

/** The API's words in a body; undefined where there are none. */
export function apiWords(body: unknown): string | undefined {
  const words = wordsIn(body, 3)?.replaceAll(/\s+/g, " ").trim();
  if (words === undefined || words === "") return undefined;
  return words.length > LONGEST ? `${words.slice(0, LONGEST - 1)}…` : words;
}

function wordsIn(value: unknown, depth: number): string | undefined {
  if (typeof value === "string") return value === "" ? undefined : value;
  if (Array.isArray(value)) return wordsIn(value[0], depth);
  if (!isPlainObject(value) || depth === 0) return undefined;
  const text = (name: string) => {
    const own = value[name];
    // OData 2.0 says in which language it speaks
    const found = isPlainObject(own) ? own.value : own;
    return typeof found === "string" && found.trim() !== "" ? found.trim() : undefined;
  };
  const sentence = SENTENCES.map(text).find((each) => each !== undefined);
  if (sentence !== undefined) {
    const code = CODES.map(text).find((each) => each !== undefined && !/^(about:|https?:)/.test(each));
    return code === undefined || sentence.includes(code) ? sentence : `${code}: ${sentence}`;
  }
  for (const name of NESTED) {
    const words = wordsIn(value[name], depth - 1);
    if (words !== undefined) return words;
  }
  const code = CODES.map((name) => value[name]).find(
    (each) => typeof each === "string" || typeof each === "number",
  );
  return code === undefined ? undefined : String(code);
}

/** Whether a body with a good status says that something failed. */
export function saysFailed(body: unknown): boolean {
  if (!isPlainObject(body)) return false;
  if (body.success === false || body.ok === false) return true;
  if (typeof body.status === "string" && /^(error|fail|failed|failure)$/i.test(body.status)) return true;
  return NESTED.some((name) => isFailure(body[name]));
}

/** Some APIs always send an error, with a code that means none. */
function isFailure(value: unknown): boolean {
  if (Array.isArray(value)) return value.length > 0;
  if (isPlainObject(value)) {
    const code = value.code ?? value.status;
    const isNone =
      code === 0 || code === 200 || (typeof code === "string" && /^(0+|200|ok|success|none)$/i.test(code));
    return Object.keys(value).length > 0 && !isNone;
  }
  if (typeof value === "string") return value !== "" && !/^(ok|none|no|false|0)$/i.test(value);
  return value === true || (typeof value === "number" && value !== 0);
}
