// One of several processes that share an account with a rotating refresh token: each of its reads finds the
// token ended.
import { fileTokenStore } from "../../dist/auth/file-token-store.js";
import { connect, defineConnector } from "../../dist/index.js";

const { url, issuer, folder, reads } = JSON.parse(process.argv[2]);
const connector = defineConnector({
  connector: "plain",
  api: {
    url,
    sign_in: {
      oauth2: "authorization_code",
      issuer,
      client_id: "native",
      scope: "openid offline_access huts",
    },
  },
  streams: { things: { get: "/things" } },
});
// a clock that jumps over each token's five seconds, so that nobody has to wait for them
let aheadMs = 0;
const clock = {
  now: () => Date.now() + aheadMs,
  sleep: (ms) => new Promise((resolve) => setTimeout(resolve, ms)),
};
const api = connect(connector, {}, { name: "north", tokens: fileTokenStore({ folder }), clock });
for (let read = 0; read < reads; read++) {
  for await (const record of api.records("things"))
    if (!/^Bearer .+/.test(record.authorization)) process.exit(2);
  aheadMs += 5000;
}
await api.close();
process.exit(0);
