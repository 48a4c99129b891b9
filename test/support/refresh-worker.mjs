// One of several processes that share an account with a rotating refresh token: reads until enough refreshes were made.

import { fileTokenStore } from "../../dist/auth/file-token-store.js";
import { connect, defineConnector } from "../../dist/index.js";

const { url, folder, untilRefreshes } = JSON.parse(process.argv[2]);
const connector = defineConnector({
  connector: "shared",
  settings: { refresh_token: { type: "string", secret: true } },
  api: { url, sign_in: { oauth2: "refresh_token", token_url: `${url}/token`, client_id: "shared" } },
  streams: { things: { get: "/things" } },
});
// a clock that runs fast, so that tokens of a second end often without anybody waiting
let aheadMs = 0;
const clock = {
  now: () => Date.now() + aheadMs,
  sleep: async (ms) => {
    aheadMs += ms;
  },
};
const api = connect(
  connector,
  { refresh_token: "rt-0" },
  { name: "shared", tokens: fileTokenStore({ folder }), clock },
);
let last = 0;
while (last < untilRefreshes) {
  for await (const record of api.records("things")) last = Number(String(record).split("-")[1]);
  aheadMs += 1000;
}
await api.close();
process.exit(0);
