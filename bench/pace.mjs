// The share of the permitted requests that is used under a limit that the connector declares, that only headers
// tell, and that nothing tells; and how often the API had to refuse.

import { readFileSync } from "node:fs";
import { checkConnector, parseYaml } from "../dist/core/index.js";
import { connect } from "../dist/index.js";
import { BOOKINGS_DEFAULTS, spawnService } from "../dist/standins/index.js";

const LIMIT = 20;
const SECONDS = 30;
const SCENARIOS = [
  { name: "published in the connector", declared: true, tellsLimit: true },
  { name: "told by headers only", declared: false, tellsLimit: true },
  { name: "told by nothing", declared: false, tellsLimit: false },
];

export async function measurePace() {
  console.log(`A limit of ${LIMIT} requests a second, for ${SECONDS} s.\n`);
  console.log("| the limit is | permitted requests used | refused (429) |\n| --- | ---: | ---: |");
  for (const scenario of SCENARIOS) {
    const { used, refused } = await measure(scenario);
    // a strict API permits LIMIT requests in any second: so many in whole seconds from the first request on
    const share = ((used / (LIMIT * SECONDS)) * 100).toFixed(1);
    const refusals = ((refused / (used + refused)) * 100).toFixed(2);
    console.log(`| ${scenario.name} | ${share} % | ${refused} (${refusals} %) |`);
  }
}

async function measure({ declared, tellsLimit }) {
  const service = await spawnService({ bookings: 1_000_000, perSecond: LIMIT, tellsLimit });
  const text = readFileSync(new URL("../demo/connectors/bookings.connector.yaml", import.meta.url), "utf8")
    .replace("per_page: 500", "per_page: 100")
    .replace("per_second: 20, ", declared ? "per_second: 20, " : "");
  const file = parseYaml(text, "bookings");
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
  await service.close();
  const asked = log.filter((entry) => entry.path === "/v2/bookings");
  const inTime = asked.filter((entry) => entry.atMs < asked[0].atMs + SECONDS * 1000);
  const refused = inTime.filter((entry) => entry.status === 429).length;
  return { used: inTime.length - refused, refused };
}

if (process.argv[1] === new URL(import.meta.url).pathname) await measurePace();
