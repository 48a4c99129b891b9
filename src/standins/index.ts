/** The simulated services of the demo, for trying connectors and for tests of your own. */
export { BOOKINGS_DEFAULTS, type BookingsOptions, type BookingsService, startBookings } from "./bookings/server.js";
export { spawnService, type SpawnedService } from "./spawn.js";
export type { LogEntry, ServiceOptions } from "./service.js";
