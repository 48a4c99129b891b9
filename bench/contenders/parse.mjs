// JSON.parse alone over the same bytes, read from the disk's cache.
import { readdirSync, readFileSync } from "node:fs";
import { join } from "node:path";
import { folder, measured } from "./report.mjs";

await measured(async () => {
  let bookings = 0;
  let guests = 0;
  for (const name of readdirSync(folder)) {
    const { items } = JSON.parse(readFileSync(join(folder, name), "utf8"));
    bookings += items.length;
    for (const item of items) guests += item.guests.length;
  }
  return { bookings, bookings_guests: guests };
});
