/** Writes the pictures of docs/tables.md: small records, and the tables that `shape` makes of them. */

import { readFileSync, writeFileSync } from "node:fs";
import { shape } from "../dist/core/index.js";

const RULES = [
  [
    "**Objects** are columns by their path.",
    [{ id: 1, warden: { name: "Mia Koller", phone: { mobile: "0664 1" } } }],
  ],
  [
    "**Lists of objects** are tables: the record's key, the place in the list (`eb_position`), and the item's fields. " +
      "Lists of plain values are json.",
    [
      {
        id: 1,
        tags: ["dogs", "wood"],
        rooms: [
          { name: "Enzian", beds: 4 },
          { name: "Arnika", beds: 12 },
        ],
      },
    ],
  ],
  [
    "**Maps**, objects whose keys are data, are tables: the key is in `eb_key`. Other keys of the object are columns.",
    [{ id: 1, rates: { "2026-07-01": { eur: 28 }, "2026-10-01": { eur: 22 }, season: "summer" } }],
  ],
  [
    "**Items within items alike** are rows of one table: `eb_within` says in which of its rows each one lies, " +
      "as its places joined by `/`.",
    [{ id: 1, replies: [{ text: "Full?", replies: [{ text: "No.", replies: [{ text: "Good." }] }] }] }],
  ],
  [
    "**Lists of lists** of objects are a table of the lists, and one of their items.",
    [{ id: 1, floors: [[{ room: "Enzian" }, { room: "Arnika" }], [{ room: "Loft" }]] }],
  ],
  [
    "**Several lists in one response** are tables of one stream: with `records: $` the whole response is the record. " +
      "Where it has no key of its own, the stream is replaced or appended to.",
    [{ id: 7, wardens: [{ name: "Mia Koller" }], rooms: [{ name: "Enzian" }, { name: "Arnika" }] }],
  ],
];

const cell = (value) => (value === null ? "" : String(value).replaceAll("|", "\\|"));
const line = (cells) => `| ${cells.join(" | ")} |`;

function picture(records) {
  return shape(records, { name: "huts", key: "id" })
    .tables.map(({ name, columns, rows }) => {
      const names = columns.map((column) => column.name);
      return [
        `\`${name}\``,
        "",
        line(names),
        line(names.map(() => "---")),
        ...rows.map((row) => line(names.map((each) => cell(row[each])))),
      ].join("\n");
    })
    .join("\n\n");
}

/** The part of the page that is made. */
export function rulesText() {
  return RULES.map(
    ([words, records]) =>
      `${words}\n\n\`\`\`json\n${records.map((record) => JSON.stringify(record)).join("\n")}\n\`\`\`\n\n${picture(records)}\n`,
  ).join("\n");
}

const PAGE = "docs/tables.md";
const PART = /(<!-- rules: .*? -->\n)[\s\S]*?(<!-- \/rules -->)/;

if (process.argv[1]?.endsWith("shape-rules.mjs")) {
  const page = readFileSync(PAGE, "utf8");
  writeFileSync(
    PAGE,
    page.replace(PART, (_, from, to) => `${from}\n${rulesText()}\n${to}`),
  );
}
