/** Tells of a column's raw values what was seen, so that a type can be chosen. */

import { MAX_DECIMAL_DIGITS, mergeSeen, SEEN, type Seen } from "./column-type.js";
import { DATE, INSTANT, LOCAL_TIME, scanDateTime } from "./date-time.js";
import { decimalParts, ExactNumber } from "./exact-json.js";

const MAX_INT64 = 2n ** 63n - 1n;
const MIN_INT64 = -(2n ** 63n);

/** What the values of one column are, merged with what was seen before. null and undefined tell nothing. */
export function classifyColumn(values: readonly unknown[], before: Seen): Seen {
  let mask = 0;
  let exact: Seen | undefined;
  // once text, always text: the probing of dates and uuids can be left out
  const textKnown = (before.mask & SEEN.text) !== 0;
  for (let row = 0; row < values.length; row++) {
    const value = values[row];
    if (typeof value === "string") {
      mask |= textKnown || mask & SEEN.text ? SEEN.text : classifyText(value);
    } else if (typeof value === "number") {
      mask |= Number.isSafeInteger(value) ? SEEN.smallInt : SEEN.float;
    } else if (typeof value === "boolean") {
      mask |= SEEN.boolean;
    } else if (typeof value === "bigint") {
      if (value <= MAX_INT64 && value >= MIN_INT64) mask |= SEEN.wideInt;
      else exact = mergeExact(exact, String(value));
    } else if (value instanceof ExactNumber) {
      exact = mergeExact(exact, value.text);
    } else if (value !== undefined && value !== null) {
      mask |= SEEN.json;
    }
  }
  const page: Seen = { mask, intDigits: 0, scale: 0 };
  return mergeSeen(before, exact === undefined ? page : mergeSeen(page, exact));
}

function mergeExact(before: Seen | undefined, token: string): Seen {
  const { digits, exponent } = decimalParts(token);
  const seen: Seen = {
    mask: SEEN.exact,
    // an exponent may be absurd; one digit too many is all that matters
    intDigits: Math.min(Math.max(digits.length + exponent, 0), MAX_DECIMAL_DIGITS + 1),
    scale: Math.min(Math.max(-exponent, 0), MAX_DECIMAL_DIGITS + 1),
  };
  return before === undefined ? seen : mergeSeen(before, seen);
}

/** The bit for a text: dates, times and uuids are recognised only in the one form they are written back in. */
export function classifyText(text: string): number {
  const { length } = text;
  if (length < 10) return SEEN.text;
  if (text.charCodeAt(4) === 45) {
    const kind = scanDateTime(text);
    if (kind === DATE) return SEEN.date;
    if (kind === INSTANT) return SEEN.instant;
    if (kind === LOCAL_TIME) return SEEN.localTime;
  } else if (length === 36 && isLowerCaseUuid(text)) {
    return SEEN.uuid;
  }
  return SEEN.text;
}

/** RFC 9562 text form in lower case: upper case would not come back as it was sent. */
export function isLowerCaseUuid(text: string): boolean {
  return /^[0-9a-f]{8}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{12}$/.test(text);
}
