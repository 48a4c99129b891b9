/**
 * What is stored of a record as JSON with its keys in order, which is mostly a matter of copying: a digest of it tells
 * states of the record apart. Records that come here are known to be JSON.
 */

import { behindColon, blanks, skipPlainText, skipValue, startsWith } from "./json";
import { allocate } from "./memory";
import { Field, Place } from "./state-plan";
import {
  BEHIND_TEXT,
  beginText,
  copy,
  copyBytes,
  cutTo,
  end,
  openTexts,
  plainNumber,
  put,
  text,
  textsAt,
  write,
  writeNull,
} from "./state-text";

/** A field of an object at hand, and where its part of the text is. */
@unmanaged
class Part {
  field: Field;
  from: u32;
  to: u32;
}

/** A key that comes for the first time: its field, or 0 where the record is for the plain reader. */
declare function newcomer(place: Place, from: usize, to: usize): usize;
/** The place of the items of a list. */
declare function itemsOf(place: Place): Place;

/** What nests deeper is for the plain reader: the stack stays small. */
const MOST_LEVELS = 64;

let root: Place = changetype<Place>(0);
let level: u32 = 0;
/** parts of a text on their way to other places */
let spare: usize = 0;
let spareRoom: u32 = 0;
/** parts of the objects that are open */
let parts: usize = 0;
let partsRoom: u32 = 0;
let top: usize = 0;
let objects: u32 = 0;

/** Begins with a page; `place`: what is known of records, 0 where their states are not asked for. */
export function openStates(place: usize): void {
  root = changetype<Place>(place);
  spareRoom = 0;
  partsRoom = 0;
  openTexts();
}

export function areAsked(): bool {
  return changetype<usize>(root) !== 0;
}

/** Writes the text of a record behind the last one; `news`: further fields that it has. False: nothing is written. */
export function writeState(from: usize, to: usize, news: usize, newsEnd: usize): bool {
  const length = <u32>(to - from + (newsEnd - news));
  beginText(length);
  // the shortest field is `"":1,`
  reserveParts((length / 5 + 2) * offsetof<Part>());
  const begin = end;
  const object = ++objects;
  top = parts;
  level = 0;
  if (members(root, from, object) === 0 || (news !== 0 && members(root, news, object) === 0)) {
    cutTo(begin);
    return false;
  }
  if (!endObject(root, begin, parts)) writeNull();
  return true;
}

function reserveParts(length: u32): void {
  if (length <= partsRoom) return;
  partsRoom = 2 * length;
  parts = allocate(partsRoom);
}

/** Writes the value that begins at a place; the place behind it, or 0. What holds no value leaves nothing. */
function value(place: Place, at: usize): usize {
  switch (load<u8>(at)) {
    case 34:
      return text(at);
    case 123:
      return object(place, at);
    case 91:
      return list(place, at);
    case 110:
      return at + 4;
    case 116:
      return copy(at, at + 4);
    case 102:
      return copy(at, at + 5);
    default:
      return plainNumber(at);
  }
}

function object(place: Place, from: usize): usize {
  const begin = end;
  const own = top;
  if (level === MOST_LEVELS) return 0;
  level++;
  const close = members(place, from, ++objects);
  if (close !== 0) endObject(place, begin, own);
  level--;
  top = own;
  return close;
}

/** Writes the fields of an object as they come, a comma before each; the place behind it. */
function members(place: Place, from: usize, object: u32): usize {
  let next: u32 = 0;
  let at = blanks(from + 1);
  if (load<u8>(at) === 125) return at + 1;
  while (true) {
    const found = fieldAt(place, at + 1, next);
    if (found === 0) return 0;
    const field = changetype<Field>(found);
    if (field.lastObject === object) return 0;
    field.lastObject = object;
    next = field.index + 1;
    const part = changetype<Part>(top);
    top += offsetof<Part>();
    part.field = field;
    at = member(field, part, behindColon(at + 1 + field.nameLength));
    if (at === 0) return 0;
    at = blanks(at);
    if (load<u8>(at) === 125) return at + 1;
    at = blanks(at + 1);
  }
}

function member(field: Field, part: Part, at: usize): usize {
  const from = end;
  part.from = from;
  part.to = from;
  const place = field.place;
  if (place === null) return skipValue(at, 0);
  write(field.before, field.beforeLength);
  const begin = end;
  const close = value(place, at);
  if (end === begin) cutTo(from);
  part.to = end;
  return close;
}

/** The field of a key: mostly the one that came behind the last one before; 0: the record is for the plain reader. */
function fieldAt(place: Place, from: usize, likely: u32): usize {
  const fields = place.fields;
  if (likely < place.count) {
    const first = load<usize>(fields + likely * 4);
    if (isName(first, from)) return first;
  }
  const close = skipPlainText(from);
  if (close === 0) return 0;
  for (let i: u32 = 0; i < place.count; i++) {
    const field = load<usize>(fields + i * 4);
    if (isName(field, from)) return field;
  }
  return newcomer(place, from, close - 1);
}

function isName(field: usize, from: usize): bool {
  const named = changetype<Field>(field);
  return startsWith(from, named.name, named.nameLength);
}

/** Puts the fields in the order of their keys; false where none holds a value. */
function endObject(place: Place, begin: u32, own: usize): bool {
  if (end === begin) return false;
  const count = <u32>((top - own) / offsetof<Part>());
  if (!cameSo(place, own, count)) learnOrder(place, own, count);
  if (!place.isInOrder) putInOrder(place, begin, own);
  store<u8>(textsAt() + begin, 123);
  put(125);
  return true;
}

/** Whether the fields came as those of the last object did. */
function cameSo(place: Place, own: usize, count: u32): bool {
  if (place.cameCount !== count) return false;
  for (let i: u32 = 0; i < count; i++)
    if (load<usize>(place.came + i * 4) !== changetype<usize>(partAt(own, i).field)) return false;
  return true;
}

function partAt(own: usize, index: u32): Part {
  return changetype<Part>(own + index * offsetof<Part>());
}

function learnOrder(place: Place, own: usize, count: u32): void {
  if (count > place.cameRoom) {
    place.cameRoom = 2 * count;
    place.came = allocate(place.cameRoom * 4);
    place.order = allocate(place.cameRoom * 4);
  }
  place.cameCount = count;
  place.isInOrder = true;
  for (let i: u32 = 0; i < count; i++) {
    const field = partAt(own, i).field;
    store<usize>(place.came + i * 4, changetype<usize>(field));
    let to = i;
    while (to > 0 && partAt(own, load<u32>(place.order + (to - 1) * 4)).field.rank > field.rank) {
      store<u32>(place.order + to * 4, load<u32>(place.order + (to - 1) * 4));
      to--;
    }
    if (to < i) place.isInOrder = false;
    store<u32>(place.order + to * 4, i);
  }
}

function putInOrder(place: Place, begin: u32, own: usize): void {
  const length = end - begin;
  if (length + BEHIND_TEXT > spareRoom) {
    spareRoom = 2 * length + BEHIND_TEXT;
    spare = allocate(spareRoom);
  }
  const start = textsAt() + begin;
  memory.copy(spare, start, length);
  let to = start;
  for (let i: u32 = 0; i < place.cameCount; i++) {
    const part = partAt(own, load<u32>(place.order + i * 4));
    copyBytes(to, spare + (part.from - begin), part.to - part.from);
    to += part.to - part.from;
  }
}

function list(place: Place, from: usize): usize {
  let at = blanks(from + 1);
  if (load<u8>(at) === 93) return at + 1;
  if (level === MOST_LEVELS) return 0;
  level++;
  const items = place.items === null ? itemsOf(place) : place.items!;
  place.items = items;
  put(91);
  while (true) {
    const begin = end;
    at = value(items, at);
    if (at === 0) return 0;
    // its places count: a null within a list is a value
    if (end === begin) writeNull();
    at = blanks(at);
    if (load<u8>(at) === 93) break;
    put(44);
    at = blanks(at + 1);
  }
  put(93);
  level--;
  return at + 1;
}
