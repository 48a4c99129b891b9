// What the board shows, as questions to the tables. Each takes the same filters: a hut, and days.

/** Bookings within the filters, each with its hut's region and the number of its guests. */
const WITHIN = `
  WITH chosen AS (
    SELECT b.*, h.name AS hut, h.region_name AS region, coalesce(g.guests, 0) AS guests
    FROM bookings.bookings AS b
    JOIN bookings.huts AS h ON h.id = b.hut_id
    LEFT JOIN (SELECT bookings_id, count(*) AS guests FROM bookings.bookings_guests GROUP BY 1) AS g
      ON g.bookings_id = b.id
    WHERE ($hut::BIGINT IS NULL OR b.hut_id = $hut)
      AND ($from::DATE IS NULL OR b.stay_to > $from) AND ($to::DATE IS NULL OR b.stay_from <= $to)
  )`;

const QUESTIONS = {
  totals: `${WITHIN} SELECT count(*)::INTEGER AS bookings, coalesce(sum(guests), 0)::INTEGER AS guests,
    coalesce(sum(price_amount) FILTER (state = 'confirmed'), 0)::DOUBLE AS revenue FROM chosen`,
  // nights that guests are booked for, of all the beds that there are in a week
  occupancy: `${WITHIN}, nights AS (
      SELECT region, guests, unnest(generate_series(stay_from::TIMESTAMP, stay_to::TIMESTAMP - INTERVAL 1 DAY, INTERVAL 1 DAY)) AS night
      FROM chosen WHERE state = 'confirmed' AND stay_to > stay_from
    ), beds AS (
      SELECT region_name AS region, sum(beds) AS beds FROM bookings.huts
      WHERE $hut::BIGINT IS NULL OR id = $hut GROUP BY 1
    )
    SELECT region, strftime(date_trunc('week', night), '%Y-%m-%d') AS week,
      (sum(guests) / any_value(beds) / 7)::DOUBLE AS share
    FROM nights JOIN beds USING (region) GROUP BY 1, 2 ORDER BY 2, 1`,
  revenue: `${WITHIN} SELECT strftime(date_trunc('week', stay_from), '%Y-%m-%d') AS week,
      sum(price_amount)::DOUBLE AS amount
    FROM chosen WHERE state = 'confirmed' GROUP BY 1 ORDER BY 1`,
  countries: `${WITHIN} SELECT coalesce(lead_guest_address_country, 'not said') AS country, sum(guests)::INTEGER AS guests
    FROM chosen GROUP BY 1 ORDER BY 2 DESC, 1 LIMIT 8`,
  latest: `${WITHIN} SELECT id::VARCHAR AS id, reference, hut, state, lead_guest_name AS guest, guests::INTEGER AS guests,
      stay_from::VARCHAR AS "from", stay_to::VARCHAR AS "to", price_amount::DOUBLE AS price
    FROM chosen ORDER BY changed_at DESC, id DESC LIMIT 12`,
};

export async function board(query, filters) {
  const answers = {};
  for (const [name, sql] of Object.entries(QUESTIONS)) answers[name] = await query(sql, filters);
  return { ...answers, totals: answers.totals[0] };
}

export const huts = (query) =>
  query("SELECT id::VARCHAR AS id, name, region_name AS region FROM bookings.huts ORDER BY name");

/** One booking as its rows, and as the record that they came from: the ledger knows each column's path. */
export async function booking(query, id) {
  const [row] = await query("SELECT * FROM bookings.bookings WHERE id = $id::BIGINT", { id });
  if (row === undefined) return undefined;
  const guests = await query(
    "SELECT * FROM bookings.bookings_guests WHERE bookings_id = $id::BIGINT ORDER BY eb_position",
    { id },
  );
  const columns = await query(
    "SELECT table_name, column_name, path FROM early_bridge.columns WHERE table_schema = 'bookings' AND role = 'data'",
  );
  const pathsOf = (table) => columns.filter((column) => column.table_name === table);
  const record = nested(row, pathsOf("bookings"), "");
  const list = guests.map((guest) => nested(guest, pathsOf("bookings_guests"), "guests[*]."));
  return { rows: { bookings: row, bookings_guests: guests }, record: { ...record, guests: list } };
}

/** `lead_guest.address.city` of a row back into objects within each other. */
function nested(row, columns, prefix) {
  const record = {};
  for (const { column_name: name, path } of columns) {
    const value = row[name];
    if (value === null || value === undefined) continue;
    const steps = path.slice(prefix.length).split(".");
    const last = steps.pop();
    let at = record;
    for (const step of steps) at = at[step] ??= {};
    at[last] = value;
  }
  return record;
}
