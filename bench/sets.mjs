// The bench's data, each record made from its index: bookings with short texts, letters with long ones, and readings
// of weather stations, 400 columns wide. For each, the stream that reads it and the SQL of DuckDB's own reader.
import { baseChangeSeconds, booking, bookingJson } from "../dist/standins/bookings/data.js";

const PAGES = { records: "$.items[*]", pages: { token: "$.paging.next_token", query: "after" }, key: "id" };

const bookings = {
  title: "bookings: nested, short texts",
  records: 400_000,
  json: (index) => bookingJson(booking(index, 0, baseChangeSeconds(index), 1)),
  stream: {
    get: "/bookings",
    ...PAGES,
    cursor: { field: "changed_at", query: "changed_after", order: "ascending" },
    columns: { "price.amount": { type: "decimal(12,2)" } },
  },
  list: "guests",
  struct: `STRUCT(id BIGINT, reference VARCHAR, hut_id BIGINT, state VARCHAR,
    lead_guest STRUCT(name VARCHAR, email VARCHAR, address STRUCT(street VARCHAR, city VARCHAR, post_code VARCHAR, country VARCHAR)),
    guests STRUCT(name VARCHAR, age BIGINT, member BOOLEAN, bunk STRUCT(room VARCHAR, bed BIGINT))[],
    price STRUCT(amount DECIMAL(12,2), currency VARCHAR), stay STRUCT("from" DATE, "to" DATE), extras JSON,
    deposit_share DOUBLE, created_at TIMESTAMPTZ, changed_at TIMESTAMPTZ, note VARCHAR)`,
  tables: {
    bookings: `SELECT r.id, r.reference, r.hut_id, r.state, r.lead_guest.name AS lead_guest_name,
      r.lead_guest.email AS lead_guest_email, r.lead_guest.address.street AS street, r.lead_guest.address.city AS city,
      r.lead_guest.address.post_code AS post_code, r.lead_guest.address.country AS country, r.price.amount AS price_amount,
      r.price.currency AS price_currency, r.stay."from" AS stay_from, r.stay."to" AS stay_to, r.extras, r.deposit_share,
      r.created_at, r.changed_at, r.note FROM raw`,
    bookings_guests: `SELECT id AS bookings_id, position - 1 AS position, g.name, g.age, g.member,
      g.bunk.room AS bunk_room, g.bunk.bed AS bunk_bed
      FROM (SELECT r.id AS id, unnest(r.guests) AS g, generate_subscripts(r.guests, 1) AS position FROM raw)`,
  },
};

const SENTENCES = [
  "Die Hütte liegt über dem Kar, und abends glüht der Grat.",
  'We were told "there is always a bed", and there was one.',
  "Merci pour l'accueil chaleureux après la traversée du glacier.",
  "\tThe stove smokes when the wind is from the north;\n\tplease tell whoever comes next.",
  "山小屋の朝食はとても美味しかったです。",
  "C:\\photos\\summit\\the last one.jpg is the one that I meant.",
  "Il sentiero è franato sotto la forcella: meglio passare dal bosco.",
];

/** So many of the sentences, one after the other. */
function prose(index, count) {
  return Array.from({ length: count }, (_, n) => SENTENCES[(index * 5 + n * 3) % SENTENCES.length]).join(" ");
}

const letters = {
  title: "letters: long texts, escaped, not of ASCII alone",
  records: 150_000,
  json: (index) =>
    JSON.stringify({
      id: index + 1,
      hut: 1 + (index % 40),
      sender: {
        name: `Björn Æ. ${index % 977}`,
        city: index % 9 === 0 ? null : "Bad Firn an der Oberen Scharte",
      },
      subject: SENTENCES[index % SENTENCES.length],
      body: prose(index, 4),
      ...(index % 3 === 0 ? {} : { reply: prose(index + 1, 2) }),
      tags: index % 4 === 0 ? [] : ["lost and found", "praise"].slice(0, index % 3),
      sheets: Array.from({ length: index % 3 }, (_, no) => ({ no, text: prose(index + no, 1) })),
      written_at: new Date(Date.UTC(2026, 0, 1) + index * 60_000).toISOString(),
    }),
  stream: { get: "/letters", ...PAGES },
  list: "sheets",
  struct: `STRUCT(id BIGINT, hut BIGINT, sender STRUCT(name VARCHAR, city VARCHAR), subject VARCHAR, body VARCHAR,
    reply VARCHAR, tags JSON, sheets STRUCT(no BIGINT, text VARCHAR)[], written_at TIMESTAMPTZ)`,
  tables: {
    letters: `SELECT r.id, r.hut, r.sender.name AS sender_name, r.sender.city AS sender_city, r.subject, r.body, r.reply,
      r.tags, r.written_at FROM raw`,
    letters_sheets: `SELECT id AS letters_id, position - 1 AS position, s.no, s.text
      FROM (SELECT r.id AS id, unnest(r.sheets) AS s, generate_subscripts(r.sheets, 1) AS position FROM raw)`,
  },
};

const SENSORS = Array.from({ length: 397 }, (_, i) => `m${String(i + 1).padStart(3, "0")}`);
const WINDS = ["N", "NE", "E", "SE", "S", "SW", "W", "NW"];
const READINGS = [
  { type: "DOUBLE", value: (index, i) => ((index * 31 + i * 7) % 9000) / 100 - 40 },
  { type: "BIGINT", value: (index, i) => (index * 17 + i * 13) % 1200 },
  { type: "BOOLEAN", value: (index, i) => (index + i) % 3 === 0 },
  { type: "VARCHAR", value: (index, i) => WINDS[(index + i) % 8] },
];

const weather = {
  title: "weather: 400 columns",
  records: 30_000,
  json: (index) => {
    const sensors = SENSORS.map((name, i) => [
      name,
      (index + i) % 11 === 0 ? null : READINGS[i % 4].value(index, i),
    ]);
    const at = new Date(Date.UTC(2026, 0, 1) + index * 600_000).toISOString();
    return JSON.stringify({ id: index + 1, station: `S${index % 40}`, at, ...Object.fromEntries(sensors) });
  },
  stream: { get: "/weather", ...PAGES },
  list: undefined,
  struct: `STRUCT(id BIGINT, station VARCHAR, "at" TIMESTAMPTZ, ${SENSORS.map((name, i) => `${name} ${READINGS[i % 4].type}`).join(", ")})`,
  tables: { weather: "SELECT unnest(r) FROM raw" },
};

export const SETS = { bookings, letters, weather };

/** What is said of the bookings beside, to see what it costs. */
export const RULES = {
  where: { where: "record.hut_id != 3" },
  hash: { columns: { ...bookings.stream.columns, "lead_guest.email": { hash: true } } },
  type: {
    columns: {
      ...bookings.stream.columns,
      "stay.from": { type: "date", form: { pattern: "yyyy-MM-dd" } },
      deposit_share: { type: "decimal(6,4)" },
    },
  },
};
