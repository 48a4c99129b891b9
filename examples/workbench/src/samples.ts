/** Answers to begin with: pages of a hut's desk, of its sensors, and one that is long. */

export interface Sample {
  readonly name: string;
  readonly answer: () => string;
  readonly connector: string;
}

const GUESTS = ["Ana Almrausch", "Björn Steinbock", "Chiara O'Hara-Quell", "花子 山川", "Νίκος Горова"];
const STATES = ["confirmed", "waiting", "cancelled"];

function booking(index: number) {
  const day = (offset: number) => new Date(Date.UTC(2026, 5, 1 + ((index * 7) % 120) + offset)).toISOString();
  return {
    id: 100_000 + index,
    reference: `HB-${String(index).padStart(7, "0")}`,
    hut_id: 1 + (index % 40),
    state: STATES[index % 3],
    lead_guest: {
      name: GUESTS[index % 5],
      email: index % 9 === 4 ? null : `guest${index}@huts.example`,
      address: { city: index % 2 === 0 ? "Niederkar" : "Val Serena", post_code: `0${1000 + (index % 900)}` },
    },
    guests: Array.from({ length: 1 + (index % 3) }, (_, n) => ({
      name: GUESTS[(index + n) % 5],
      age: 8 + ((index * 13 + n * 7) % 70),
      bunk: index % 4 === 0 ? { room: `Z${n}`, bed: 1 + (index % 12) } : undefined,
    })),
    price: { amount: (80 + ((index * 37) % 340) + 0.5).toFixed(2), currency: "EUR" },
    stay: { from: day(0).slice(0, 10), to: day(2).slice(0, 10) },
    extras: index % 2 === 0 ? ["sauna", "bed linen"] : [],
    changed_at: day(-90),
  };
}

const bookings = (count: number) =>
  JSON.stringify(
    {
      items: Array.from({ length: count }, (_, index) => booking(index)),
      paging: { next_token: "cGFnZSAy" },
    },
    undefined,
    1,
  );

const BOOKINGS = `connector: bookings
api: { url: https://desk.huts.example/v2 }
streams:
  bookings:
    get: /bookings
    query: { per_page: 500 }
    records: $.items[*]
    pages: { token: $.paging.next_token, query: after }
    key: id
    where: record.state != "cancelled"
    columns:
      price.amount: { type: "decimal(12,2)" }
      lead_guest.email: { hash: true }
`;

const READINGS = `connector: sensors
api: { url: https://sensors.huts.example/v1 }
streams:
  readings:
    get: /huts/{hut_id}/readings
    each: { hut_id: [3, 7] }
    records: $.readings[*]
    pages: { number: 1, query: page, total: $.total, size: { query: per_page, records: 24 } }
    key: at
    columns:
      battery: { type: int64 }
`;

const readings = () =>
  JSON.stringify(
    {
      total: 96,
      readings: Array.from({ length: 24 }, (_, hour) => ({
        at: new Date(Date.UTC(2026, 0, 1, hour)).toISOString(),
        celsius: Math.round((Math.sin(hour / 4) * 9 - 3) * 10) / 10,
        battery: hour === 17 ? "flat" : 100 - hour,
      })),
    },
    undefined,
    1,
  );

export const SAMPLES: readonly Sample[] = [
  { name: "A page of bookings", answer: () => bookings(60), connector: BOOKINGS },
  { name: "Readings, one of them odd", answer: readings, connector: READINGS },
  { name: "Bookings by the thousands (5 MB)", answer: () => bookings(7500), connector: BOOKINGS },
];
