/** An OData server that nobody here wrote, over metadata and data of ours: it speaks 4.0 and 2.0. */

import { mkdirSync, writeFileSync } from "node:fs";
import { createServer } from "node:http";
import { createRequire } from "node:module";
import { join, resolve } from "node:path";
import { temporaryFolder } from "./project.js";
import { listen } from "./serve.js";
import { whenDone } from "./when-done.js";

type Router = (request: unknown, response: unknown, next: (error?: unknown) => void) => void;
interface MockServer {
  readonly isReady: Promise<void>;
  getRouter(): Router;
  dispose(): Promise<void>;
}
// CommonJS, and its own types need packages that it does not bring
const require = createRequire(import.meta.url);
const { default: MockServer } = require("@sap-ux/fe-mockserver-core") as {
  readonly default: new (configuration: object) => MockServer;
};

export interface Stranger {
  readonly url: string;
  /** requests so far: path and query, decoded */
  readonly log: string[];
}

/** Serves the sets of a metadata file from `test/data/odata`; `data` holds entities by set. */
export async function odataStranger(
  metadata: string,
  data: Readonly<Record<string, readonly object[]>>,
): Promise<Stranger> {
  const folder = join(temporaryFolder(), "data");
  mkdirSync(folder);
  for (const [set, entities] of Object.entries(data))
    writeFileSync(join(folder, `${set}.json`), JSON.stringify(entities));
  const server = new MockServer({
    services: [
      {
        urlPath: "/huts/odata",
        metadataPath: resolve("test/data/odata", metadata),
        mockdataPath: folder,
        generateMockData: false,
        strictKeyMode: false,
        watch: false,
      },
    ],
    annotations: [],
    plugins: [],
    version: "2",
    logger: { info() {}, error() {}, warn() {}, debug() {}, silly() {}, verbose() {} },
  });
  await server.isReady;
  whenDone(() => server.dispose());
  const log: string[] = [];
  const router = server.getRouter();
  // it reads the bodies of requests itself
  const listening = createServer((request, response) => {
    log.push(decodeURIComponent(request.url ?? ""));
    router(request, response, () => response.writeHead(404).end("no such address"));
  });
  return { url: `http://127.0.0.1:${await listen(listening)}/huts/odata`, log };
}
