/** A little data for each of the federation's other services, made from its index. */

import { pickAt, randomAt } from "../random.js";

const GIVEN = ["Ana", "Björn", "Chiara", "Elif", "花子", "Ивана", "Νίκος", "Zoë"];
const FAMILY = ["Almrausch", "Bergwald", "Della Fonte", "Steinbock", "山川", "Λόφος"];
const GOODS = ["oats", "lentils", "lamp oil", "blankets", "coffee", "firewood", "rope"];

export function member(index: number): Record<string, unknown> {
  const name = `${pickAt(GIVEN, 11, index)} ${pickAt(FAMILY, 12, index)}`;
  return {
    id: 7000 + index,
    name,
    since: `${1990 + (index % 35)}-03-01`,
    home_hut: 1 + (index % 40),
    active: randomAt(13, index) < 0.8,
  };
}

export function logEntry(index: number): Record<string, unknown> {
  const day = new Date(Date.UTC(2026, 0, 1 + (index % 300))).toISOString().slice(0, 10);
  return {
    id: index + 1,
    day,
    hut_id: 1 + (index % 40),
    snow_cm: Math.floor(randomAt(14, index) * 180),
    guests: Math.floor(randomAt(15, index) * 60),
  };
}

export function reading(index: number): Record<string, unknown> {
  const at = new Date(Date.UTC(2026, 0, 1) + index * 600_000).toISOString();
  return {
    id: index + 1,
    at,
    celsius: Number((randomAt(16, index) * 40 - 15).toFixed(1)),
    battery: randomAt(17, index) < 0.05 ? null : 100 - (index % 60),
  };
}

export function storeItem(index: number): Record<string, unknown> {
  return {
    id: index + 1,
    hut_id: 1 + (index % 40),
    item: pickAt(GOODS, 18, index),
    count: Math.floor(randomAt(19, index) * 90),
  };
}

export function noticeOf(index: number): Record<string, unknown> {
  return {
    id: index + 1,
    text: `notice ${index + 1}: "the spring is ${index % 2 === 0 ? "running" : "dry"}"`,
    by: pickAt(GIVEN, 20, index),
  };
}
