/**
 * The parts of undici that we use. All of it takes three times as long to load: fetch, WebSocket and caches are in it,
 * and a short run sends three requests.
 */

const Dispatcher = require("undici/lib/dispatcher/dispatcher.js");

// as undici itself does
Object.assign(Dispatcher.prototype, require("undici/lib/api/index.js"));

module.exports = {
  Agent: require("undici/lib/dispatcher/agent.js"),
  get ProxyAgent() {
    return require("undici/lib/dispatcher/proxy-agent.js");
  },
  get EnvHttpProxyAgent() {
    return require("undici/lib/dispatcher/env-http-proxy-agent.js");
  },
};
