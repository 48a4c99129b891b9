/** A little data for each of the federation's other services, made from its index. */

import { pickAt, randomAt } from "../random.js";

const GIVEN = ["Ana", "Björn", "Chiara", "Elif", "花子", "Ивана", "Νίκος", "Zoë"];
const FAMILY = ["Almrausch", "Bergwald", "Della Fonte", "Steinbock", "山川", "Λόφος"];
const GOODS = ["oats", "lentils", "lamp oil", "blankets", "coffee", "firewood", "rope"];
const HOUR_MS = 3_600_000;
/** The services' year begins here. */
export const YEAR_MS = Date.UTC(2026, 0, 1);
/** Huts that have sensors. */
export const SENSOR_HUTS = Object.freeze([3, 7, 8, 12, 15, 19, 22, 26, 27, 31, 36, 40]);

type Item = Record<string, unknown>;

export function member(index: number): Item {
  const name = `${pickAt(GIVEN, 11, index)} ${pickAt(FAMILY, 12, index)}`;
  return {
    id: 7000 + index,
    name,
    since: `${1990 + (index % 35)}-03-01`,
    home_hut: 1 + (index % 40),
    active: randomAt(13, index) < 0.8,
  };
}

export const LOG_HEADER = ["id", "day", "hut_id", "snow_cm", "guests", "remark"];

/** One line of the logbook; empty cells at its end are left out, as such services do. */
export function logRow(index: number): unknown[] {
  const day = new Date(YEAR_MS + (index % 300) * 24 * HOUR_MS).toISOString().slice(0, 10);
  const row = [
    index + 1,
    day,
    1 + (index % 40),
    Math.floor(randomAt(14, index) * 180),
    Math.floor(randomAt(15, index) * 60),
  ];
  return index % 5 === 0 ? [...row, `wind from the ${pickAt(["north", "south", "west"], 30, index)}`] : row;
}

/** A hut's reading of one hour of the year. */
export function reading(hut: number, hour: number): Item {
  const seed = hut * 100_000 + hour;
  return {
    at: new Date(YEAR_MS + hour * HOUR_MS).toISOString(),
    celsius: Number((randomAt(16, seed) * 40 - 15).toFixed(1)),
    battery: randomAt(17, seed) < 0.05 ? null : 100 - (hour % 60),
  };
}

export function storeItem(index: number): Item {
  return {
    id: index + 1,
    hut_id: 1 + (index % 40),
    item: pickAt(GOODS, 18, index),
    count: Math.floor(randomAt(19, index) * 90),
  };
}

export function noticeOf(index: number): Item {
  return {
    id: index + 1,
    text: `notice ${index + 1}: "the spring is ${index % 2 === 0 ? "running" : "dry"}"`,
    by: pickAt(GIVEN, 20, index),
  };
}

/** What the figures service can count. */
export const MEASURES = Object.freeze(["guests", "beds_free", "meals", "firewood_kg", "power_kwh"]);

/** The figures of one hut on one day of January. */
export function figuresOf(hut: number, day: number): Item {
  const date = new Date(YEAR_MS + day * 24 * HOUR_MS).toISOString().slice(0, 10);
  const values = MEASURES.map((measure, i) => [measure, Math.floor(randomAt(40 + i, hut * 100 + day) * 80)]);
  return { day: date, hut_id: hut, ...Object.fromEntries(values) };
}

export function comment(id: number, edits = 0): Item {
  return {
    id,
    hut_id: 1 + (id % 40),
    stars: 1 + Math.floor(randomAt(21, id) * 5),
    text: `${pickAt(["Warm soup", "Cold wash-room", "Kind warden", "A fine view"], 22, id)}${edits === 0 ? "" : ` (edited ${edits} times)`}`,
    by: pickAt(GIVEN, 23, id),
  };
}

/** The one delivery of more than a thousand kilos: its weight has a sign between thousands. */
export const HEAVY_DELIVERY = 40;

export function delivery(index: number): Item {
  return {
    number: `D-${1000 + index}`,
    hut: 1 + (index % 40),
    goods: pickAt(GOODS, 24, index),
    kilos: index === HEAVY_DELIVERY ? "1,204.5" : (randomAt(25, index) * 300).toFixed(1),
    by: index % 3 === 0 ? "cableway" : "mule & sledge",
  };
}

export const SHIFT_FIELDS = Object.freeze(["id", "warden", "hut_id", "from_day", "to_day", "on_call"]);

export function shift(index: number): Item {
  const day = (offset: number) =>
    new Date(YEAR_MS + (index * 3 + offset) * 24 * HOUR_MS).toISOString().slice(0, 10);
  return {
    id: index + 1,
    warden: `${pickAt(GIVEN, 26, index)} ${pickAt(FAMILY, 27, index)}`,
    hut_id: 1 + (index % 40),
    from_day: day(0),
    to_day: day(3),
    on_call: randomAt(28, index) < 0.2,
  };
}
