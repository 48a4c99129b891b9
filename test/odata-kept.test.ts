/** Metadata is read once: it is kept from one process to the next, for as long as the service calls it the same. */

import { readdirSync, readFileSync, statSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { describe, expect, it } from "vitest";
import { defineConnector } from "../src/index.js";
import { fileKeep } from "../src/node/file-keep.js";
import { nodePorts } from "../src/node/ports.js";
import { connectWith } from "../src/run/connect-with.js";
import { allRecords, HUT, HUTS, schemaOf } from "./support/odata.js";
import { temporaryFolder } from "./support/project.js";
import { serve } from "./support/serve.js";
import { whenDone } from "./support/when-done.js";

describe("metadata that is kept", () => {
  const open = async () => {
    const folder = join(temporaryFolder(), "kept");
    const state = { etag: '"1"', metadata: schemaOf(HUT, HUTS) };
    const log: string[] = [];
    const origin = await serve((request, response) => {
      if (!request.url!.endsWith("$metadata"))
        return response.end(JSON.stringify({ value: [{ Id: 1, Title: "A" }] }));
      const isSame = request.headers["if-none-match"] === state.etag;
      log.push(`${request.headers["if-none-match"] ?? "-"} ${isSame ? 304 : 200}`);
      if (isSame) return response.writeHead(304, { etag: state.etag }).end();
      return response.writeHead(200, { etag: state.etag }).end(state.metadata);
    });
    const connector = defineConnector({ connector: "huts", api: { url: origin }, odata: {} });
    /** as another process would */
    const names = async (name = "account") => {
      const api = connectWith({ ...nodePorts(), keep: fileKeep(folder) }, connector, {}, { name });
      whenDone(() => api.close());
      await allRecords(api, "huts");
      return log.at(-1);
    };
    return { folder, state, names };
  };

  it("is asked for on condition, and read anew when it has changed", async () => {
    const { state, names } = await open();
    expect(await names()).toBe("- 200");
    expect(await names()).toBe('"1" 304');
    state.etag = '"2"';
    expect(await names()).toBe('"1" 200');
    expect(await names()).toBe('"2" 304');
    // what another account may see can differ
    expect(await names("another")).toBe("- 200");
  });

  it("is read anew where its file is damaged, and is nobody else's to read", async () => {
    const { folder, names } = await open();
    await names();
    const [file] = readdirSync(folder);
    const path = join(folder, file!);
    expect(statSync(path).mode & 0o077).toBe(0);
    const bytes = readFileSync(path);
    bytes[bytes.length - 1]! ^= 1;
    writeFileSync(path, bytes);
    expect(await names()).toBe("- 200");
    expect(await names()).toBe('"1" 304');
  });

  it("costs nothing but time where its folder cannot be written", async () => {
    const folder = join(temporaryFolder(), "file");
    writeFileSync(folder, "a file is in the way");
    const keep = fileKeep(folder);
    await keep.write("a", new Map([["b", 1]]));
    expect(await keep.read("a")).toBeUndefined();
  });
});
