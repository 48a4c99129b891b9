/** Details of many entities in one request: with a stranger that takes multipart, and services of ours. */

import { describe, expect, it } from "vitest";
import { batchResponses } from "../src/core/odata/batch.js";
import { bridgeInto } from "./support/carried.js";
import { allRecords, HUT, HUTS, openOData, schemaOf } from "./support/odata.js";
import { odataStranger } from "./support/odata-stranger.js";
import { temporaryFolder } from "./support/project.js";
import { serve } from "./support/serve.js";

const hut = (n: number) => ({ Number: n, Title: `Hut ${n}`, ChangedAt: null });
const streams = {
  huts: {
    set: "Huts",
    query: { $select: "Number" },
    expand: { get: "/Huts({number})", fields: { number: "Number" }, batch: 20 },
  },
};

describe("records that are expanded in batches", () => {
  it("have their details, from a stranger", async () => {
    const { url, log } = await odataStranger("huts.v4.xml", {
      Huts: Array.from({ length: 50 }, (_, n) => hut(n)),
    });
    const records = await allRecords(openOData(url, { streams }), "huts");
    expect(records).toHaveLength(50);
    expect(records.every((each) => (each as { Title: string }).Title.startsWith("Hut "))).toBe(true);
    expect(log.filter((line) => line.endsWith("$batch"))).toHaveLength(3);
    expect(log.filter((line) => line.includes("Huts("))).toEqual([]);
  });

  const open = async (version: string, answer: (ids: string[]) => unknown) => {
    const log: string[] = [];
    const origin = await serve((request, response, body) => {
      const url = decodeURIComponent(request.url ?? "");
      log.push(`${request.method} ${url}`);
      if (url.endsWith("$metadata")) return response.end(schemaOf(HUT, HUTS, version));
      if (url.includes("/Huts?"))
        return response.end(JSON.stringify({ value: [1, 2, 3].map((Id) => ({ Id })) }));
      const id = /Huts\((\d)\)/.exec(url)?.[1];
      if (id !== undefined) return response.end(JSON.stringify({ Id: Number(id), Title: `alone ${id}` }));
      const found = answer([...body.matchAll(/Huts\((\d)\)/g)].map(([, each]) => each!));
      if (found === undefined) return response.writeHead(501).end("{}");
      return response.writeHead(200, { "content-type": "application/json" }).end(JSON.stringify(found));
    });
    const expand = { get: "/Huts({id})", fields: { id: "Id" }, batch: 10 };
    const huts = { set: "Huts", query: { $select: "Id" }, expand };
    const notices: string[] = [];
    const bridge = await bridgeInto(
      `${temporaryFolder()}/b.duckdb`,
      openOData(`${origin}/odata`, { streams: { huts } }),
    );
    const report = await bridge.run({ onEvent: (e) => e.type === "notice" && notices.push(e.message) });
    return { log: log.slice(2), notices, stream: report.streams[0]! };
  };

  it("are asked for alone where the batch has failed for them, and stay where nothing is there", async () => {
    const responses = [
      { id: "2", status: 404, body: { error: { message: "gone" } } },
      {
        id: "0",
        status: 200,
        headers: { "Content-Type": "application/json" },
        body: { Id: 1, Title: "in one" },
      },
      { id: "1", status: 503 },
    ];
    const { log, notices, stream } = await open("4.01", () => ({ responses }));
    expect(stream).toMatchObject({ outcome: "done", added: 3 });
    expect(log).toEqual(["POST /odata/$batch", "GET /odata/Huts(2)"]);
    expect(notices).toEqual(["What expand asks for is gone (3): the record is kept as the list gave it."]);
  });

  it("are asked for alone by a service that takes no batches", async () => {
    const { log, notices, stream } = await open("4.01", () => undefined);
    expect(stream).toMatchObject({ outcome: "done", added: 3 });
    expect(log).toEqual([
      "POST /odata/$batch",
      "GET /odata/Huts(1)",
      "GET /odata/Huts(2)",
      "GET /odata/Huts(3)",
    ]);
    expect(notices).toEqual([expect.stringContaining("takes no batches")]);
  });
});

describe("responses in a batch", () => {
  // RFC 2046, section 5.1; OData Protocol 4.01, section 11.7.7.5
  it("are read whatever their line ends, preambles and lengths are", () => {
    const text = [
      "this is for people",
      "--b 1",
      "Content-Type: application/http",
      "",
      "HTTP/1.1 200 OK",
      "Content-Type: application/json",
      "Content-Length: 14",
      "",
      '{"Title":"Zoë"}',
      "--b 1",
      "content-type: application/http",
      "",
      "HTTP/1.1 404 Not Found",
      "",
      "",
      "--b 1--",
      "and this, too",
    ];
    for (const line of ["\r\n", "\n"]) {
      const bytes = new TextEncoder().encode(text.join(line).replace("14", "16"));
      const [first, second, third] = batchResponses(bytes, 'multipart/mixed; boundary="b 1"', 3);
      expect(first).toMatchObject({ status: 200, headers: { "content-type": "application/json" } });
      expect(new TextDecoder().decode(first!.body)).toBe('{"Title":"Zoë"}');
      expect(second).toMatchObject({ status: 404 });
      expect(third).toBeUndefined();
    }
    expect(batchResponses(new Uint8Array(), "multipart/mixed", 1)).toEqual([undefined]);
  });
});
