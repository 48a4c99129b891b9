/** The bookings of the hut federation: every record is made from its index, so that millions cost no memory. */

import { pickAt, randomAt } from "../random.js";

export const HUT_COUNT = 40;
/** bookings that share one change time */
const SAME_TIME = 3;
const STEP_SECONDS = 10;
const FIRST_CHANGE_SECONDS = Date.UTC(2026, 0, 5, 6) / 1000;
/** the booking with an id that a float64 cannot hold */
const BIG_ID_INDEX = 7;
const BIG_ID = "9007199254740993";
const FIRST_ID = 100_000;

const HUT_FIRST = [
  "Adler",
  "Birken",
  "Dohlen",
  "Enzian",
  "Föhren",
  "Gams",
  "Hasel",
  "Kees",
  "Lärchen",
  "Murmel",
];
const HUT_LAST = ["hütte", "alm", "scharte", "rast"];
const REGIONS = ["Oberes Kar", "Sonnental", "Windjoch", "Val Serena", "Grauer Grat"];
const FEATURES = ["drying room", "winter room", "sauna", "library", "climbing wall"];
const GIVEN = [
  "Ana",
  "Björn",
  "Chiara",
  "Dorothée",
  "Elif",
  "花子",
  "Ивана",
  "Νίκος",
  "ليلى",
  "Zoë",
  "Tomás",
  "Mika",
];
const FAMILY = [
  "Almrausch",
  "Bergwald",
  "Della Fonte",
  "O'Hara-Quell",
  "Steinbock",
  "山川",
  "Горова",
  "Λόφος",
  "Van der Alp",
];
const STREETS = ["Quellweg", "Am Steig", "Via dei Larici", "Rue du Col", 'Old "Mill" Lane'];
const CITIES = ["Niederkar", "Sankt Anselm", "Val Serena", "Hochfeld", "Bad Firn"];
const COUNTRIES = ["AT", "CH", "DE", "FR", "IT", "SI"];
const EXTRAS = ["breakfast", "packed lunch", "sauna", "bed linen", "late arrival", "guide"];
const STATES = ["confirmed", "confirmed", "confirmed", "waiting", "cancelled"];
const NOTES = [
  'Arrives late, asks for the "quiet" room',
  "Two vegetarians, one vegan; no nuts, please",
  "First line\nsecond line\n\tand an indented third",
  "Nimmt den Weg über die Scharte – bei Nebel über das Tal",
  "C:\\maps\\route, printed",
  "犬と一緒です 🐕",
  "",
];

export interface Hut {
  readonly id: number;
  readonly [field: string]: unknown;
}

/** A booking as the API gives it. `id` is JSON text, for one of them fits no JavaScript number. */
export interface Booking {
  readonly id: string;
  readonly changedSeconds: number;
  readonly fields: Readonly<Record<string, unknown>>;
}

export function hut(index: number, seed: number): Hut {
  const at = (n: number) => randomAt(seed, index * 16 + n);
  const open = at(3) < 0.8;
  return {
    id: index + 1,
    name: `${HUT_FIRST[index % HUT_FIRST.length]}${HUT_LAST[Math.floor(index / HUT_FIRST.length) % HUT_LAST.length]}`,
    region: { name: pickAt(REGIONS, seed, index), code: `R${index % REGIONS.length}` },
    beds: 12 + Math.floor(at(1) * 80),
    altitude_m: 1200 + Math.floor(at(2) * 1700),
    season: open ? { from: "2026-06-13", to: "2026-10-04" } : null,
    position: { lat: round(46.5 + at(4), 5), lon: round(11 + at(5) * 2, 5) },
    features: FEATURES.filter((_, n) => at(6 + n) < 0.4),
    warden: {
      name: `${pickAt(GIVEN, seed, index * 7)} ${pickAt(FAMILY, seed, index * 11)}`,
      phone: at(12) < 0.9 ? `+00 555 0${100 + index}` : null,
    },
  };
}

/** The change time of the booking at an index, before any tick; in seconds since 1970. */
export function baseChangeSeconds(index: number): number {
  return FIRST_CHANGE_SECONDS + Math.floor(index / SAME_TIME) * STEP_SECONDS;
}

/** The first index whose change time is after the instant. */
export function firstIndexAfter(seconds: number): number {
  if (seconds < FIRST_CHANGE_SECONDS) return 0;
  return (Math.floor((seconds - FIRST_CHANGE_SECONDS) / STEP_SECONDS) + 1) * SAME_TIME;
}

/** The booking at an index; `version` counts its changes, the last of them at `changedSeconds`. */
export function booking(index: number, version: number, changedSeconds: number, seed: number): Booking {
  const at = (n: number) => randomAt(seed + version * 7919, index * 32 + n);
  const fixed = (n: number) => randomAt(seed, index * 32 + n);
  const name = `${pickAt(GIVEN, seed, index * 3)} ${pickAt(FAMILY, seed, index * 5)}`;
  const day = Math.floor(fixed(1) * 110);
  const guests = Math.floor(fixed(2) * 4.2);
  const fields: Record<string, unknown> = {
    reference: `HB-${String(index).padStart(7, "0")}`,
    hut_id: 1 + Math.floor(fixed(3) * HUT_COUNT),
    state: STATES[Math.floor(at(4) * STATES.length)],
    lead_guest: leadGuest(index, name, fixed),
    guests: Array.from({ length: guests }, (_, n) => guest(index, n, seed)),
    price: { amount: `${28 + Math.floor(at(5) * 400)}.${at(6) < 0.5 ? "00" : "50"}`, currency: "EUR" },
    stay: { from: dayText(day), to: dayText(day + 1 + Math.floor(fixed(7) * 4)) },
    extras: EXTRAS.filter((_, n) => fixed(8 + n) < 0.25),
    deposit_share: round(fixed(14), 3),
    created_at: instantText(FIRST_CHANGE_SECONDS - 86_400 * (1 + Math.floor(fixed(15) * 30)), index),
    changed_at: instantText(changedSeconds, index + version),
  };
  // some records leave fields out instead of sending null
  if (fixed(16) < 0.5) fields.note = fixed(17) < 0.2 ? null : pickAt(NOTES, seed, index * 13);
  if (version > 0)
    fields.changed_by = { desk: `desk ${version}`, reason: at(18) < 0.5 ? "guest asked" : null };
  const id = index === BIG_ID_INDEX ? BIG_ID : String(FIRST_ID + index);
  return { id, changedSeconds, fields };
}

/** The booking as JSON text, its id as a bare number. */
export function bookingJson({ id, fields }: Booking): string {
  return `{"id":${id},${JSON.stringify(fields).slice(1)}`;
}

function leadGuest(index: number, name: string, fixed: (n: number) => number): Record<string, unknown> {
  const address = {
    street: `${pickAt(STREETS, 3, index)} ${1 + Math.floor(fixed(20) * 60)}`,
    city: pickAt(CITIES, 4, index),
    post_code: String(1000 + Math.floor(fixed(21) * 8999)).padStart(5, "0"),
    country: pickAt(COUNTRIES, 5, index),
  };
  return {
    name,
    email: fixed(22) < 0.95 ? `guest.${index}@mail.example` : null,
    ...(fixed(23) < 0.9 ? { address } : {}),
  };
}

function guest(index: number, n: number, seed: number): Record<string, unknown> {
  const key = index * 8 + n;
  const age = 4 + Math.floor(randomAt(seed + 1, key) * 76);
  return {
    name: `${pickAt(GIVEN, seed + 2, key)} ${pickAt(FAMILY, seed + 3, key)}`,
    age: randomAt(seed + 4, key) < 0.1 ? null : age,
    member: randomAt(seed + 5, key) < 0.5,
    ...(n === 0 ? { bunk: { room: `Z${index % 9}`, bed: 1 + (index % 12) } } : {}),
  };
}

function dayText(day: number): string {
  return new Date(Date.UTC(2026, 5, 14 + day)).toISOString().slice(0, 10);
}

const OFFSETS = [
  { text: "Z", seconds: 0 },
  { text: "+02:00", seconds: 7200 },
  { text: "-05:30", seconds: -19_800 },
];

/** RFC 3339, with an offset that differs from record to record; now and then with milliseconds. */
function instantText(seconds: number, turn: number): string {
  const offset = OFFSETS[turn % OFFSETS.length]!;
  const local = new Date((seconds + offset.seconds) * 1000).toISOString().slice(0, 19);
  return `${local}${turn % 5 === 0 ? ".000" : ""}${offset.text}`;
}

function round(value: number, digits: number): number {
  return Number(value.toFixed(digits));
}
