import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { parseColumnType } from "./column-type.js";
import { hashing, masking } from "./concealed-values.js";
import { compileForm, formFault, type ValueForm } from "./value-form.js";
import { wantedFields } from "./wanted-fields.js";

const read = (type: string, form: ValueForm, value: unknown) =>
  compileForm(form, parseColumnType(type)!)(value);

describe("a form", () => {
  it.each<[string, ValueForm, unknown, unknown]>([
    ["timestamp", { time: "seconds" }, 1_767_225_600, "2026-01-01T00:00:00Z"],
    ["timestamp", { time: "seconds" }, "1767225600.25", "2026-01-01T00:00:00.25Z"],
    ["timestamp", { time: "milliseconds" }, "1767225600123", "2026-01-01T00:00:00.123Z"],
    ["date", { time: "seconds", zone: "Asia/Tokyo" }, 1_767_218_400, "2026-01-01"],
    ["timestamp", { time: "/Date/" }, "/Date(1767225600000+0100)/", "2026-01-01T00:00:00Z"],
    ["date", { pattern: "dd.MM.yyyy" }, "31.12.2025", "2025-12-31"],
    ["date", { pattern: "dd.MM.yyyy" }, "31.02.2025", "31.02.2025"],
    ["date", { pattern: "M/d/yy" }, "7/4/69", "2069-07-04"],
    ["date", { pattern: "d MMM yyyy" }, "4 Jul 2026", "2026-07-04"],
    ["date", { pattern: "MMMM d, yyyy" }, "July 4, 2026", "2026-07-04"],
    ["local_timestamp", { pattern: "dd.MM.yyyy 'um' HH:mm" }, "04.07.2026 um 09:05", "2026-07-04T09:05:00"],
    ["local_timestamp", { pattern: "MM/dd/yyyy hh:mm a" }, "07/04/2026 12:30 AM", "2026-07-04T00:30:00"],
    ["local_timestamp", { pattern: "MM/dd/yyyy hh:mm a" }, "07/04/2026 12:30 pm", "2026-07-04T12:30:00"],
    ["local_timestamp", { pattern: "MM/dd/yyyy hh:mm a" }, "07/04/2026 13:30 pm", "07/04/2026 13:30 pm"],
    ["timestamp", { pattern: "yyyyMMdd'T'HHmmssXX" }, "20260704T120000+0200", "2026-07-04T10:00:00Z"],
    [
      "timestamp",
      { pattern: "dd.MM.yyyy HH:mm", zone: "Europe/Vienna" },
      "04.07.2026 12:00",
      "2026-07-04T10:00:00.000000Z",
    ],
    // the clocks show 02:30 twice on this day: the earlier one
    ["timestamp", { zone: "Europe/Vienna" }, "2026-10-25 02:30", "2026-10-25T00:30:00.000000Z"],
    ["timestamp", { zone: "Europe/Vienna" }, "2026-07-04T12:00:00Z", "2026-07-04T12:00:00Z"],
    ["decimal(12,2)", { decimal: ",", thousands: "." }, "1.234.567,89", "1234567.89"],
    ["decimal(12,2)", { decimal: ",", thousands: "." }, "1.23,4", "1.23,4"],
    ["decimal(12,2)", { decimal: "," }, "-12,5", "-12.5"],
    ["int64", { thousands: "'" }, "12'345", "12345"],
    ["boolean", { yes: ["ja", "x"], no: ["nein", ""] }, "Ja", true],
    ["boolean", { yes: ["ja", "x"], no: ["nein", ""] }, "", false],
    ["boolean", { yes: ["1"], no: ["0"] }, 1, true],
    ["boolean", { yes: ["ja"] }, "vielleicht", "vielleicht"],
    ["timestamp", { time: "seconds" }, "soon", "soon"],
    ["timestamp", { time: "seconds" }, 1e18, 1e18],
  ])("for %s, %j, reads %j as %j", (type, form, value, expected) => {
    expect(read(type, form, value)).toEqual(expected);
  });

  it("reads every day and time that its pattern writes", () => {
    const two = (n: number) => String(n).padStart(2, "0");
    const day = fc.date({
      min: new Date("0001-01-01T00:00:00Z"),
      max: new Date("9999-12-31T23:59:59Z"),
      noInvalidDate: true,
    });
    fc.assert(
      fc.property(day, (date) => {
        const iso = date.toISOString().slice(0, 19);
        const [y, m, d, h, min, s] = iso.split(/[-T:]/).map(Number) as [
          number,
          number,
          number,
          number,
          number,
          number,
        ];
        const year = String(y).padStart(4, "0");
        const local = { pattern: "d.M.yyyy H:m:s" };
        expect(read("local_timestamp", local, `${d}.${m}.${year} ${h}:${min}:${s}`)).toBe(iso);
        const half = { pattern: "yyyy/MM/dd hh:mm:ss a" };
        const text = `${year}/${two(m)}/${two(d)} ${two(h % 12 === 0 ? 12 : h % 12)}:${two(min)}:${two(s)} ${h < 12 ? "AM" : "PM"}`;
        expect(read("local_timestamp", half, text)).toBe(iso);
      }),
    );
  });

  it.each<[string, ValueForm, RegExp | undefined]>([
    ["timestamp", { pattern: "dd.MM.yyyy HH:mm" }, /of no zone/],
    ["timestamp", { pattern: "dd.MM.yyyy HH:mm XXX" }, undefined],
    ["timestamp", { zone: "Europe/Wien" }, /no time zone Europe\/Wien/],
    ["date", { pattern: "DD.MM.YYYY" }, /DD stands for nothing; there are yyyy/],
    ["date", { pattern: "dd.MM" }, /no year/],
    ["date", { pattern: "dd dd yyyy" }, /twice/],
    ["int64", { yes: ["ja"] }, /yes does not go with type int64/],
    ["text", { zone: "UTC" }, /values of type text have no other form/],
    ["decimal(4,2)", { decimal: ",", thousands: "," }, /the same sign/],
  ])("for %s, %j, is found fault with: %s", (type, form, fault) => {
    const found = formFault(form, parseColumnType(type)!);
    if (fault === undefined) expect(found).toBeUndefined();
    else expect(found).toMatch(fault);
  });
});

describe("what is not to be seen", () => {
  it("is hashed under a secret as RFC 4231 has it (test case 2)", () => {
    expect(hashing("Jefe").stored("what do ya want for nothing?")).toBe(
      "5bdcc146bf60754e6a042426089575c75a003f089d2739839dec58b964ec3843",
    );
  });

  it("is stored alike whether it comes from the API or from a recording", () => {
    const ways = [hashing(), hashing("pepper"), masking(0), masking(4)];
    fc.assert(
      fc.property(fc.oneof(fc.string(), fc.integer()), fc.constantFrom(...ways), (value, way) => {
        expect(way.stored(way.recorded(value))).toBe(way.stored(value));
      }),
    );
  });

  it("is masked but for its last signs, and whole where it has no more", () => {
    const masked = (text: string) => masking(4).stored(text);
    expect(["AT61 1904 3002 3457 3201", "1234", "12345", "a花b子🏔cde"].map(masked)).toEqual([
      "***3201",
      "***",
      "***2345",
      "***🏔cde",
    ]);
  });
});

describe("the fields that are wanted", () => {
  const chosen = (choice: Parameters<typeof wantedFields>[0], ...paths: string[]) => {
    const isWanted = wantedFields(choice, [["id"]]);
    return paths.filter((path) => isWanted(path.split(".")));
  };

  it("are those named, what is in them, what leads there, and the key", () => {
    const only = ["guest.email", "price", "rooms[*].*.bed"];
    const paths = [
      "id",
      "guest",
      "guest.email",
      "guest.name",
      "price.amount",
      "rooms.[*].a.bed",
      "rooms.[*].a.no",
    ];
    expect(chosen({ only }, ...paths)).toEqual([
      "id",
      "guest",
      "guest.email",
      "price.amount",
      "rooms.[*].a.bed",
    ]);
  });

  it("are all but those named, at any depth with two stars; never without the key", () => {
    const except = ["**.note", "x_*", "id"];
    expect(chosen({ except }, "id", "note", "a.b.note", "a.b.notes", "x_y", "xy")).toEqual([
      "id",
      "a.b.notes",
      "xy",
    ]);
  });
});
