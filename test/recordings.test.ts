/** Recordings by the public API: what they hide, and that a replay asks and answers the same. */

import { readFileSync, statSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { strToU8, zipSync } from "fflate";
import { describe, expect, it } from "vitest";
import { type ConnectOptions, connect, defineConnector, openBridge } from "../src/index.js";
import { recordInto, replayFile } from "../src/testing/index.js";
import { duckdb } from "../src/warehouse/duckdb/index.js";
import { temporaryFolder } from "./support/project.js";
import { type Handler, serve } from "./support/serve.js";
import { queryFile } from "./support/truth.js";

const SECRET = "pass-of-the-warden";

type Stream = NonNullable<Parameters<typeof defineConnector>[0]["streams"]>[string];

/** Records a stream from a server, closes it, and gives what the replay reads. */
async function recordAndReplay(stream: Stream, handler: Handler) {
  const connector = (url: string) =>
    defineConnector({
      connector: "plain",
      settings: { pass: { type: "string", secret: true } },
      api: { url, sign_in: { basic: { user: "anna", password: "{pass}" } } },
      streams: { s: stream },
    });
  const path = join(temporaryFolder(), "s.har");
  writeFileSync(path, "an older one, for everybody", { mode: 0o644 });
  const { recorder, close } = recordInto(path);
  const read = async (api: ReturnType<typeof connect>) => {
    const records: unknown[] = [];
    for await (const record of api.records("s")) records.push(record);
    await api.close();
    return records;
  };
  const url = await serve(handler);
  const live = await read(connect(connector(url), { pass: SECRET }, { onRecord: recorder.onRecord }));
  close();
  const replay = replayFile(path);
  const replayed = await read(
    connect(connector("https://huts.example"), { pass: "another pass" }, replay.connectOptions),
  );
  return { live, replayed, leftOver: replay.leftOver(), text: readFileSync(path, "utf8"), path };
}

const json = (body: unknown): string => JSON.stringify(body);

describe("a recording", () => {
  it("is for its owner only, and replays pages whose token looks like a credential", async () => {
    const { live, replayed, leftOver, text, path } = await recordAndReplay(
      { get: "/s", records: "$.items[*]", pages: { token: "$.next", query: "token" } },
      ({ url = "" }, response) => {
        const page = Number(/token=t(\d)/.exec(url)?.[1] ?? 1);
        response.end(json({ items: [{ page }], next: page < 4 ? `t${page + 1}` : null }));
      },
    );
    expect(live).toEqual([{ page: 1 }, { page: 2 }, { page: 3 }, { page: 4 }]);
    expect(replayed).toEqual(live);
    expect(leftOver).toEqual([]);
    expect(text.toLowerCase()).not.toContain("authorization");
    expect(statSync(path).mode & 0o077).toBe(0);
  });

  it("hides a secret that is part of the request, and is found with another one", async () => {
    const { replayed, text } = await recordAndReplay(
      { post: "/s", safe_to_retry: true, query: { as: "{pass}" }, body: { json: { pass: "{pass}" } } },
      (_request, response, body) => response.end(json([{ told: body.length }])),
    );
    expect(replayed).toEqual([{ told: json({ pass: SECRET }).length }]);
    expect(text).toContain("[secret]");
    expect(text).not.toContain(SECRET);
  });

  it.each([
    ["in another encoding", Buffer.from(`id,name\n1,Zoë ${SECRET}\n`, "latin1")],
    ["in a zip file", Buffer.from(zipSync({ "s.csv": strToU8(`id,name\n1,Zo\xeb ${SECRET}\n`, true) }))],
  ])("hides a secret %s", async (_how, file) => {
    const { live, replayed, text } = await recordAndReplay(
      { get: "/s", response: { csv: { encoding: "windows-1252" } } },
      (_request, response) => response.end(file),
    );
    expect(live).toEqual([{ id: "1", name: `Zoë ${SECRET}` }]);
    expect(replayed).toEqual([{ id: "1", name: "Zoë [secret]" }]);
    expect(text).not.toContain(SECRET);
  });

  it("that cannot be written is told before anything is asked", () => {
    const path = join(temporaryFolder(), "none", "s.har");
    expect(() => recordInto(path)).toThrow(expect.objectContaining({ code: "FILE_UNWRITABLE" }));
  });
});

describe("a recording of values that are stored as hashes", () => {
  const people = [
    { id: 1, email: "ana@huts.example", guests: [{ phone: 111222, hut: { phone: "900" } }] },
    { id: 2, email: null, guests: [] },
    { id: 3, email: "bo@huts.example", guests: [{ phone: 333444 }] },
  ];
  const columns = { email: { hash: true }, "guests[*].phone": { hash: true } } as const;
  const stream = { get: "/s", key: "id", columns };
  const bodies = {
    JSON: {
      stream: { ...stream, records: "$.items[*]" },
      body: json({ items: people, email: people[0]!.email }),
    },
    "JSON Lines": {
      stream: { ...stream, response: "json_lines" as const },
      body: people.map(json).join("\n"),
    },
  };

  it.each(Object.entries(bodies))(
    "(%s) holds the hashes, and loads the same",
    async (_how, { stream, body }) => {
      const file = join(temporaryFolder(), "s.har");
      const load = async (url: string, options: ConnectOptions) => {
        const api = defineConnector({
          connector: "plain",
          api: { url, sign_in: "none" },
          streams: { s: stream },
        });
        await using connection = connect(api, {}, options);
        const path = join(temporaryFolder(), "s.duckdb");
        const report = await (
          await openBridge({
            from: connection,
            to: duckdb(path),
            name: "b",
            schema: "main",
          })
        ).run();
        expect(report.streams[0]).toMatchObject({ outcome: "done", error: undefined, added: 3 });
        const guests = "SELECT s_id, phone, hut_phone FROM s_guests ORDER BY s_id";
        return [await queryFile(path, "SELECT id, email FROM s ORDER BY id"), await queryFile(path, guests)];
      };
      const url = await serve((_request, response) => response.end(body));
      const { recorder, close } = recordInto(file);
      const live = await load(url, { onRecord: recorder.onRecord });
      close();
      expect(readFileSync(file, "utf8")).not.toMatch(/huts\.example|111222|333444/);
      expect(await load("https://huts.example", replayFile(file).connectOptions)).toEqual(live);
      expect(live[1]).toMatchObject([{ hut_phone: "900" }, {}]);
    },
  );

  it("leaves out a body that it cannot search, and says so to the replay", async () => {
    const csv = { get: "/s", key: "id", response: "csv", columns: { email: { hash: true } } } as const;
    const answer: Handler = (_request, response) => response.end("id,email\n1,ana@huts.example\n");
    await expect(recordAndReplay(csv, answer)).rejects.toMatchObject({
      code: "RECORDING_MISSING",
      hint: expect.stringContaining("left out"),
    });
  });
});
