/** Values in Thrift's compact protocol, as far as the headers of Parquet files need it. */

const TYPE = { true: 1, false: 2, i32: 5, i64: 6, text: 8, list: 9, struct: 12 } as const;

export type Field = readonly [id: number, value: ThriftValue];

export type ThriftValue =
  | { readonly is: "i32" | "i64"; readonly value: number }
  | { readonly is: "text"; readonly value: string }
  | { readonly is: "true" | "false" }
  | { readonly is: "list"; readonly items: readonly ThriftValue[] }
  | { readonly is: "struct"; readonly fields: readonly Field[] };

export const i32 = (value: number): ThriftValue => ({ is: "i32", value });
export const i64 = (value: number): ThriftValue => ({ is: "i64", value });
export const text = (value: string): ThriftValue => ({ is: "text", value });
export const bool = (value: boolean): ThriftValue => ({ is: value ? "true" : "false" });
export const list = (items: readonly ThriftValue[]): ThriftValue => ({ is: "list", items });
export const struct = (...fields: readonly Field[]): ThriftValue => ({ is: "struct", fields });

/** The bytes of a struct. Its numbers are not negative, and its fields are in the order of their ids. */
export function thriftBytes(value: ThriftValue): Uint8Array<ArrayBuffer> {
  const bytes: number[] = [];
  write(bytes, value);
  return Uint8Array.from(bytes);
}

function write(bytes: number[], value: ThriftValue): void {
  switch (value.is) {
    case "i32":
    case "i64":
      // zigzag: the lowest bit is the sign
      varint(bytes, value.value * 2);
      break;
    case "text": {
      const encoded = new TextEncoder().encode(value.value);
      varint(bytes, encoded.length);
      for (const byte of encoded) bytes.push(byte);
      break;
    }
    case "list":
      writeList(bytes, value.items);
      break;
    case "struct":
      writeFields(bytes, value.fields);
      break;
  }
}

function writeList(bytes: number[], items: readonly ThriftValue[]): void {
  const type = items.length === 0 ? TYPE.i32 : TYPE[items[0]!.is];
  if (items.length < 15) bytes.push((items.length << 4) | type);
  else {
    bytes.push(0xf0 | type);
    varint(bytes, items.length);
  }
  for (const item of items) write(bytes, item);
}

function writeFields(bytes: number[], fields: readonly Field[]): void {
  let before = 0;
  for (const [id, value] of fields) {
    bytes.push(((id - before) << 4) | TYPE[value.is]);
    before = id;
    write(bytes, value);
  }
  bytes.push(0);
}

/** Seven bits at a time, the lowest first; the highest bit says that more follow. */
export function varint(bytes: number[], value: number): void {
  let rest = value;
  while (rest >= 128) {
    bytes.push((rest % 128) | 128);
    rest = Math.floor(rest / 128);
  }
  bytes.push(rest);
}
