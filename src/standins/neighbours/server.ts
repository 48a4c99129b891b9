/**
 * The federation's other services, one below the other, each with a sign-in and a way of asking of its own:
 *
 *   /members     authorization code + PKCE     OData 4.0: next links, delta links
 *   /logbook     service-account JWT           values with a header row
 *   /sensors     key in the query              by hut × windows of time × page numbers; an untold limit
 *   /stores      HTTP Basic                    OData 2.0: metadata, next links, a filter for changes
 *   /notices     a session by cookie           Link header
 *   /figures     bearer token                  reports: submit, look, download
 *   /feedback    key in a header               offsets over a list that changes
 *   /deliveries  HTTP Basic                    XML envelopes
 *   /crew        key in a header               describe, then query; keyset
 */

import { generateKeyPairSync } from "node:crypto";
import formBody from "@fastify/formbody";
import Fastify from "fastify";
import { addServiceHooks, type LogEntry, type ServiceOptions } from "../service.js";
import { addCrew } from "./crew.js";
import { addDeliveries } from "./deliveries.js";
import { addFeedback } from "./feedback.js";
import { addFigures } from "./figures.js";
import { addLogbook, ROBOT } from "./logbook.js";
import { addMembers } from "./members.js";
import { addNotices } from "./notices.js";
import { addSensors } from "./sensors.js";
import { addStores } from "./stores.js";
import type { World } from "./world.js";

export { NEIGHBOURS_DEFAULTS } from "./defaults.js";

export interface NeighboursOptions extends ServiceOptions {
  /** the sensors' untold limit; default 50 a second, null: none */
  readonly sensorsPerSecond?: number | null | undefined;
}

export interface NeighboursService {
  readonly url: string;
  readonly log: readonly LogEntry[];
  /** the key file of the logbook's service account, as JSON text */
  readonly robotKeyFile: string;
  close(): Promise<void>;
}

/** Starts all of them on one port of loopback. */
export async function startNeighbours(options: NeighboursOptions = {}): Promise<NeighboursService> {
  const { sensorsPerSecond = 50 } = options;
  const app = Fastify({ forceCloseConnections: true });
  await app.register(formBody);
  const log = addServiceHooks(app, options);
  const keys = generateKeyPairSync("rsa", { modulusLength: 2048 });
  const world: World = { hoursPassed: 0, sensorsPerSecond };
  addMembers(app, world);
  addLogbook(app, keys.publicKey);
  addSensors(app, world);
  addStores(app, world);
  addNotices(app);
  addFigures(app);
  addFeedback(app);
  addDeliveries(app);
  addCrew(app);
  app.post("/_tick", async () => ({ hoursPassed: ++world.hoursPassed }));
  const url = await app.listen({ host: "127.0.0.1", port: options.port ?? 0 });
  const privateKey = keys.privateKey.export({ type: "pkcs8", format: "pem" }).toString();
  const robotKeyFile = JSON.stringify({
    issuer: ROBOT,
    key_id: "r1",
    private_key: privateKey,
    token_url: `${url}/logbook/token`,
  });
  return { url, log, robotKeyFile, close: () => app.close() };
}
