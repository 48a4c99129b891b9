/** Servers on loopback that live as long as a test. */

import { createServer, type IncomingMessage, type ServerResponse } from "node:http";
import type { AddressInfo, Server } from "node:net";
import { whenDone } from "./when-done.js";

/** What a test's server does with a request; `body` is all that was sent, as text. */
export type Handler = (request: IncomingMessage, response: ServerResponse, body: string) => unknown;

/** Lets a server listen until the test has ended; gives its port. */
export async function listen(server: Server & { closeAllConnections?: () => void }): Promise<number> {
  await new Promise<void>((resolve) => server.listen(0, "127.0.0.1", resolve));
  whenDone(() => server.close());
  whenDone(() => server.closeAllConnections?.());
  return (server.address() as AddressInfo).port;
}

/** Starts a plain server; gives its address. */
export async function serve(handler: Handler): Promise<string> {
  const server = createServer((request, response) => {
    const parts: Buffer[] = [];
    request.on("data", (part: Buffer) => parts.push(part));
    request.on("end", () => void handler(request, response, Buffer.concat(parts).toString()));
  });
  return `http://127.0.0.1:${await listen(server)}`;
}

/** A proxy that lets nobody through. */
export async function proxyAnswering(status: number): Promise<string> {
  const server = createServer();
  server.on("connect", (_request, socket) => socket.end(`HTTP/1.1 ${status} No\r\n\r\n`));
  return `http://127.0.0.1:${await listen(server)}`;
}
