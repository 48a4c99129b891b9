// The share of the permitted requests that is used under a published limit, and whether the API ever had to refuse.
import { connect } from "../dist/index.js";
import { checkConnector, parseYaml } from "../dist/core/index.js";
import { readFileSync } from "node:fs";
import { BOOKINGS_DEFAULTS, startBookings } from "../dist/standins/index.js";

const LIMIT = 20;
const SECONDS = 10;

export async function measurePace() {
  const service = await startBookings({ bookings: 1_000_000, perSecond: LIMIT });
  const file = parseYaml(readFileSync(new URL("../demo/connectors/bookings.connector.yaml", import.meta.url), "utf8"), "bookings");
  const { clientId, clientSecret } = BOOKINGS_DEFAULTS;
  const api = connect(checkConnector(file.value, file), { base: service.url, client_id: clientId, client_secret: clientSecret });
  const until = Date.now() + SECONDS * 1000;
  for await (const _ of api.pages("bookings")) if (Date.now() > until) break;
  await api.close();
  const asked = service.log.filter((entry) => entry.path === "/v2/bookings");
  const refused = asked.filter((entry) => entry.status === 429).length;
  const tookMs = asked.at(-1).atMs - asked[0].atMs;
  const permitted = (tookMs / 1000) * LIMIT;
  const share = ((asked.length - 1) / permitted) * 100;
  console.log(`limit of ${LIMIT} requests a second, published: ${share.toFixed(1)} % of the permitted requests used over ${(tookMs / 1000).toFixed(1)} s, ${refused} refused (429)`);
  await service.close();
}

if (process.argv[1] === new URL(import.meta.url).pathname) await measurePace();
