/** A way to a server that can be watched, and cut: a port that passes on what it gets. */

import { createServer, connect as dial, type Socket } from "node:net";
import { listen } from "./serve.js";

export async function watchedWay(
  url: string,
  watch: (chunk: Buffer, sockets: readonly Socket[]) => void = () => {},
) {
  const { hostname, port: farPort } = new URL(url);
  const open = new Set<Socket>();
  const server = createServer((near) => {
    const far = dial(Number(farPort), hostname);
    far.on("data", (chunk) => near.writable && near.write(chunk));
    near.on("data", (chunk) => {
      far.write(chunk);
      watch(chunk, [near, far]);
    });
    for (const [one, other] of [
      [near, far],
      [far, near],
    ] as const) {
      open.add(one);
      one.on("error", () => {}).on("close", () => other.destroy());
    }
  });
  const port = await listen(server);
  const cut = () => {
    for (const socket of open) socket.destroy();
  };
  return {
    url: Object.assign(new URL(url), { host: `127.0.0.1:${port}` }).href,
    cut,
    close: () => {
      cut();
      return server.close();
    },
  };
}
