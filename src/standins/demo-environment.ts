/** What the demo's project refers to by $NAME: addresses and made-up credentials of the stand-ins. */

import { BOOKINGS_DEFAULTS } from "./bookings/server.js";
import { NEIGHBOURS_DEFAULTS } from "./neighbours/server.js";

/** What the demo's guests are hashed under. */
export const DEMO_HASH_SECRET = "rowan-berries-in-the-snow";

export function demoEnvironment(bookingsUrl: string, neighboursUrl: string): Record<string, string> {
  const { clientId, clientSecret } = BOOKINGS_DEFAULTS;
  const others = NEIGHBOURS_DEFAULTS;
  return {
    BOOKINGS_URL: bookingsUrl,
    BOOKINGS_ID: clientId,
    BOOKINGS_SECRET: clientSecret,
    HASH_SECRET: DEMO_HASH_SECRET,
    NEIGHBOURS_URL: neighboursUrl,
    MEMBERS_CLIENT: others.membersClient,
    SENSORS_KEY: others.sensorsKey,
    STORES_USER: others.storesUser,
    STORES_PASSWORD: others.storesPassword,
    NOTICES_USER: others.noticesUser,
    NOTICES_PASSWORD: others.noticesPassword,
    FIGURES_TOKEN: others.figuresToken,
    FEEDBACK_KEY: others.feedbackKey,
    DELIVERIES_USER: others.deliveriesUser,
    DELIVERIES_PASSWORD: others.deliveriesPassword,
    CREW_KEY: others.crewKey,
  };
}

/** The environment as the text of a .env file. */
export function envFileText(environment: Readonly<Record<string, string>>): string {
  return Object.entries(environment)
    .map(([name, value]) => `${name}=${value}\n`)
    .join("");
}
