// The share of the permitted requests that is used under a published limit, and whether the API ever had to refuse.

import { readFileSync } from "node:fs";
import { checkConnector, parseYaml } from "../dist/core/index.js";
import { connect } from "../dist/index.js";
import { BOOKINGS_DEFAULTS, spawnService } from "../dist/standins/index.js";

const LIMIT = 20;
const SECONDS = 30;

export async function measurePace() {
  const service = await spawnService({ bookings: 1_000_000, perSecond: LIMIT });
  const file = parseYaml(
    readFileSync(new URL("../demo/connectors/bookings.connector.yaml", import.meta.url), "utf8").replace(
      "per_page: 500",
      "per_page: 100",
    ),
    "bookings",
  );
  const { clientId, clientSecret } = BOOKINGS_DEFAULTS;
  const api = connect(checkConnector(file.value, file), {
    base: service.url,
    client_id: clientId,
    client_secret: clientSecret,
  });
  const until = Date.now() + SECONDS * 1000;
  for await (const _ of api.pages("bookings")) if (Date.now() > until) break;
  await api.close();
  const log = await (await fetch(`${service.url}/_log`)).json();
  const asked = log.filter((entry) => entry.path === "/v2/bookings");
  const refused = asked.filter((entry) => entry.status === 429).length;
  // a strict API permits LIMIT requests in any second: so many in whole seconds from the first request on
  const used = asked.filter((entry) => entry.atMs < asked[0].atMs + SECONDS * 1000).length;
  const share = ((used / (LIMIT * SECONDS)) * 100).toFixed(1);
  console.log(
    `published limit of ${LIMIT} requests a second: ${share} % of the permitted requests used in ${SECONDS} s, ${refused} refused (429)`,
  );
  await service.close();
}

if (process.argv[1] === new URL(import.meta.url).pathname) await measurePace();
