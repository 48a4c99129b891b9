/** The simulated services of the demo, for trying connectors and for tests of your own. */
export {
  BOOKINGS_DEFAULTS,
  type BookingsOptions,
  type BookingsService,
  startBookings,
} from "./bookings/server.js";
export { DEMO_HASH_SECRET, demoEnvironment, envFileText } from "./demo-environment.js";
export { NEIGHBOURS_DEFAULTS, type NeighboursService, startNeighbours } from "./neighbours/server.js";
export { ALL_FAULTS, type FaultKind, type LogEntry, type ServiceOptions } from "./service.js";
export { type SpawnedService, spawnService } from "./spawn.js";
