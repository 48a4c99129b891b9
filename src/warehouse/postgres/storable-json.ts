/** JSON as JSONB takes it. */

/** From here on a number is beyond `numeric`. */
const MOST_EXPONENT_DIGITS = 5;

/**
 * The text with what JSONB refuses in other words: U+0000 as U+2400, its sign; half of a surrogate pair as U+FFFD; a
 * number with an exponent of five digits or more as a text.
 */
export function storableJson(text: string): string {
  let json = text;
  if (json.includes("\\u"))
    json = json.replace(
      /\\(u0000|u[dD][89abAB][0-9a-fA-F]{2}\\u[dD][c-fC-F][0-9a-fA-F]{2}|u[dD][89a-fA-F][0-9a-fA-F]{2}|.)/gs,
      (whole, escaped: string) => {
        if (escaped === "u0000") return "\u2400";
        return /^u[dD][89a-fA-F]..$/.test(escaped) ? "\ufffd" : whole;
      },
    );
  if (json.includes("\0")) json = json.replaceAll("\0", "\u2400");
  return LARGE_EXPONENT.test(json) ? withoutLargeNumbers(json) : json;
}

const LARGE_EXPONENT = new RegExp(`[eE][+-]?\\d{${MOST_EXPONENT_DIGITS}}`);
const TEXT_OR_NUMBER = /"(?:[^"\\]|\\.)*"|-?\d[\d.]*[eE][+-]?\d+/g;

function withoutLargeNumbers(json: string): string {
  return json.replace(TEXT_OR_NUMBER, (part) =>
    part.startsWith('"') || !LARGE_EXPONENT.test(part) ? part : `"${part}"`,
  );
}
