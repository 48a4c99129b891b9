import fc from "fast-check";
import { describe, expect, it } from "vitest";
import {
  DATE,
  formatInstant,
  INSTANT,
  instantMicros,
  LOCAL_TIME,
  NO_TIME,
  scanDateTime,
  scanned,
} from "./date-time.js";

const years = {
  min: new Date("0001-01-01T00:00:00Z"),
  max: new Date("9999-12-31T23:59:59Z"),
  noInvalidDate: true,
};

describe("scanDateTime", () => {
  it("agrees with Date on every instant, whatever the offset", () => {
    fc.assert(
      fc.property(fc.date(years), fc.integer({ min: -14 * 60, max: 14 * 60 }), (date, offsetMinutes) => {
        const local = new Date(date.getTime() + offsetMinutes * 60_000);
        fc.pre(local.getUTCFullYear() >= 1 && local.getUTCFullYear() <= 9999);
        const sign = offsetMinutes < 0 ? "-" : "+";
        const minutes = Math.abs(offsetMinutes);
        const offset = `${String(Math.floor(minutes / 60)).padStart(2, "0")}:${String(minutes % 60).padStart(2, "0")}`;
        const text = local.toISOString().replace("Z", `${sign}${offset}`);
        expect(scanDateTime(text)).toBe(INSTANT);
        expect(scanned.seconds * 1000 + scanned.micros / 1000).toBe(date.getTime());
      }),
      { numRuns: 500 },
    );
  });

  it("writes an instant so that it reads back the same", () => {
    fc.assert(
      fc.property(fc.date(years), fc.integer({ min: 0, max: 999 }), (date, extraMicros) => {
        const micros = date.getTime() * 1000 + extraMicros;
        fc.pre(Number.isSafeInteger(micros));
        expect(instantMicros(formatInstant(micros))).toBe(micros);
      }),
    );
  });

  it.each([
    ["2026-02-28", DATE],
    ["2024-02-29", DATE],
    ["2026-03-01T10:00:00Z", INSTANT],
    ["2026-03-01T10:00:00.123456+05:30", INSTANT],
    ["2026-03-01T10:00:00.123456000Z", INSTANT],
    ["2026-03-01T10:00:00", LOCAL_TIME],
  ])("knows %s", (text, kind) => {
    expect(scanDateTime(text)).toBe(kind);
  });

  it.each([
    "2026-02-29",
    "2026-13-01",
    "0000-01-01",
    "2026-3-1",
    "2026-03-01 10:00:00",
    "2026-03-01T10:00",
    "2026-03-01T24:00:00Z",
    "2026-03-01T10:00:60Z",
    "2026-03-01T10:00:00.",
    "2026-03-01T10:00:00.1234567Z",
    "2026-03-01T10:00:00+0200",
    "2026-03-01T10:00:00z",
    "2026-03-01x",
    "٢٠٢٦-٠٣-٠١",
  ])("leaves %s as text: writing it back could lose something", (text) => {
    expect(scanDateTime(text)).toBe(NO_TIME);
  });
});
