/** Records at the limits of the types that every server has. */

export const LIMIT_COLUMNS = {
  id: { type: "int64" },
  small: { type: "decimal(9,2)" },
  wide: { type: "decimal(38,10)" },
  local: { type: "local_timestamp" },
  file: { type: "bytes" },
  any: { type: "json" },
} as const;

export const LEAST = {
  id: "-9223372036854775808",
  small: "-9999999.99",
  wide: "-9999999999999999999999999999.9999999999",
  f: -1.7976931348623157e308,
  day: "0001-01-01",
  at: "0001-01-01T00:00:00Z",
  local: "0001-01-01T00:00:00",
  ok: false,
  file: "",
  any: [] as unknown,
  text: "",
  uuid: "00000000-0000-0000-0000-000000000000",
};

export const MOST = {
  ...LEAST,
  id: "9223372036854775807",
  small: "0.01",
  wide: "0.0000000001",
  f: 2.5e-300,
  day: "9999-12-31",
  at: "9999-12-31T23:59:59.999999Z",
  local: "9999-12-31T23:59:59.999999",
  ok: true,
  file: "AP+A",
  any: { b: 1, a: [null, "x\\"] },
  text: 'Hütte "Ötzi", \\N \\ \' 😀\n\r\t %_ $1',
  uuid: "ffffffff-ffff-ffff-ffff-ffffffffffff",
};
