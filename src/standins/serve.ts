#!/usr/bin/env node
/** Runs a stand-in in a process of its own: `serve.js '{"port":0,"bookings":20000}'`. Ends with its parent. */

import { startBookings } from "./bookings/server.js";
import { startNeighbours } from "./neighbours/server.js";
import type { SpawnOptions } from "./spawn.js";

const options = JSON.parse(process.argv[2] ?? "{}") as SpawnOptions;
const service = await startBookings(options);
const neighbours = options.neighbours === true ? await startNeighbours() : undefined;
// a parent that started it by fork gets the address; it ends when the parent is gone
if (process.send !== undefined) {
  process.send({
    url: service.url,
    neighbours: neighbours && { url: neighbours.url, robotKeyFile: neighbours.robotKeyFile },
  });
  process.on("disconnect", () => process.exit(0));
} else {
  process.stdout.write(`${service.url}\n`);
}
// Ctrl-C reaches the whole process group: the parent decides when the service ends
process.on("SIGINT", () => {
  if (process.send === undefined) process.exit(0);
});
