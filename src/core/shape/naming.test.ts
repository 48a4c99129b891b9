import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { formatPath, nameForPath, parsePath, snakeCase } from "./naming.js";

const rules = { maxBytes: 40 };
const path = fc.array(fc.oneof(fc.string({ minLength: 1 }), fc.string({ unit: "grapheme", minLength: 1 })), {
  minLength: 1,
  maxLength: 4,
});

describe("names", () => {
  it.each([
    ["leadGuest", "lead_guest"],
    ["eMail", "e_mail"],
    ["HTTPStatus", "http_status"],
    ["price-EUR", "price_eur"],
    ["2fa", "_2fa"],
    ["größe", "größe"],
    ["%", "field"],
    ["__v", "v"],
  ])("%s becomes %s", (key, name) => {
    expect(snakeCase(key)).toBe(name);
  });

  it("never collide, never exceed the limit, and are the same on every run", () => {
    fc.assert(
      fc.property(
        fc.uniqueArray(path, { selector: (parts) => JSON.stringify(parts), maxLength: 30 }),
        (paths) => {
          const assign = () => {
            const taken = new Set<string>();
            for (const parts of paths) taken.add(nameForPath(parts, taken, rules));
            return [...taken];
          };
          const names = assign();
          expect(names).toHaveLength(paths.length);
          expect(names).toEqual(assign());
          for (const name of names)
            expect(new TextEncoder().encode(name).length).toBeLessThanOrEqual(rules.maxBytes);
        },
      ),
    );
  });
});

describe("paths", () => {
  it("read back as they were written", () => {
    fc.assert(
      fc.property(
        fc.array(fc.oneof(fc.string({ minLength: 1 }), fc.constant("[*]")), { minLength: 1 }),
        (parts) => {
          fc.pre(!parts.includes("[*]") || parts[0] !== "[*]");
          expect(parsePath(formatPath(parts))).toEqual(parts);
        },
      ),
    );
  });

  it("are refused where they cannot be read", () => {
    for (const text of ["", ".", "a..b", "a[", "a[0]", 'a["x']) expect(parsePath(text)).toBeUndefined();
  });
});
