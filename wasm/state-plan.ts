/** What is known of the places in a stream's records, for their states. It is made once, and grows with new keys. */

import { allocate, allocateZeros } from "./memory";

/** What is known of a place in records. */
@unmanaged
export class Place {
  /** addresses of its fields, in the order in which they came first */
  fields: usize;
  count: u32;
  room: u32;
  items: Place | null;
  /** addresses of those of the last object there, as they came, and which of them stands where in the order of keys */
  came: usize;
  order: usize;
  cameCount: u32;
  cameRoom: u32;
  isInOrder: bool;
}

@unmanaged
export class Field {
  /** its key with the quote that ends it */
  name: usize;
  nameLength: u32;
  /** a comma, its key as the text has it, and a colon */
  before: usize;
  beforeLength: u32;
  /** null: it is not stored */
  place: Place | null;
  index: u32;
  /** its place among the others by key */
  rank: u32;
  /** the object that had it last */
  lastObject: u32;
}

export function newPlace(fields: u32): Place {
  const place = changetype<Place>(allocateZeros(offsetof<Place>()));
  place.room = fields + 8;
  place.fields = allocate(place.room * 4);
  return place;
}

/** A field whose name and text its owner writes; `place` 0: it is not stored. */
export function newField(owner: Place, nameLength: u32, beforeLength: u32, place: usize): Field {
  const field = changetype<Field>(allocateZeros(offsetof<Field>()));
  field.name = allocate(nameLength);
  field.nameLength = nameLength;
  field.before = allocate(beforeLength + 16);
  field.beforeLength = beforeLength;
  field.place = changetype<Place | null>(place);
  field.index = owner.count;
  if (owner.count === owner.room) {
    const fields = allocate(owner.room * 8);
    memory.copy(fields, owner.fields, owner.room * 4);
    owner.fields = fields;
    owner.room *= 2;
  }
  store<usize>(owner.fields + owner.count++ * 4, changetype<usize>(field));
  return field;
}

export function nameOf(field: Field): usize {
  return field.name;
}

export function textBefore(field: Field): usize {
  return field.before;
}

export function setRank(field: Field, rank: u32): void {
  field.rank = rank;
}

export function setItems(place: Place, items: Place): void {
  place.items = items;
}
