/** `survey`: what an OData service holds, through the command and through the public function. */

import { spawn } from "node:child_process";
import { once } from "node:events";
import { readFileSync, writeFileSync } from "node:fs";
import { join, resolve } from "node:path";
import { describe, expect, it } from "vitest";
import { stringify } from "yaml";
import { parseYaml } from "../src/core/define/check.js";
import { connect, defineConnector, survey } from "../src/index.js";
import { startNeighbours } from "../src/standins/index.js";
import { inLong, isLong } from "./support/long.js";
import { odataStranger } from "./support/odata-stranger.js";
import { outputLines } from "./support/output.js";
import { command, demoProject } from "./support/project.js";
import { serve } from "./support/serve.js";
import { whenDone } from "./support/when-done.js";

const LIST = {
  type: "array",
  items: {
    type: "object",
    properties: { id: { type: "integer" }, name: { type: "string", description: "Its name" } },
  },
};

async function stores() {
  const service = await startNeighbours();
  whenDone(() => service.close());
  return demoProject("http://127.0.0.1:9", service.url);
}

describe("survey", () => {
  it("lists sets with keys, rows, cursors and ways to others; one in detail; and finds words", async () => {
    const { folder } = await stores();
    const list = (await command(["survey", "stores"], folder)).stdout;
    expect(list).toMatch(/Items +items +Id +8 +80 +ChangedAt +Supplier/);
    expect(list).toMatch(/Suppliers +— +Code +3 +3 +Item\[\]/);
    const one = (await command(["survey", "stores", "Items"], folder)).stdout;
    expect(one).toMatch(/cursor +ChangedAt, CountedOn/);
    expect(one).toMatch(/Price +Decimal +decimal\(9,2\) +Of one piece, in crowns/);
    expect((await command(["survey", "stores", "--search", "SHELF"], folder)).stdout).toContain("1 set\n");
    expect((await command(["survey", "stores", "--search", "nothing"], folder)).stdout).toContain(
      'holds "nothing"',
    );
    const lines = outputLines((await command(["survey", "stores", "--json"], folder)).stdout);
    expect(lines).toMatchObject([
      { type: "resource", account: "stores", name: "Items", rows: 80 },
      { type: "resource", account: "stores", name: "Suppliers", rows: 3 },
    ]);
  });

  inLong("is followed by plan and probe, which say what a service is", async () => {
    const { folder } = await stores();
    const plan = (await command(["plan", "stores"], folder)).stdout;
    expect(plan).toMatch(/pages +by the service's next links, and as many as it counts/);
    expect(plan).toContain("Only metadata was asked for.");
    const probe = (await command(["probe", "stores"], folder)).stdout;
    expect(probe).toMatch(/metadata .*OData 2.0, 2 sets: Items, Suppliers; 1 carried/);
    expect(probe).toMatch(/30 records on the first page: Id, HutId, Item, Count, Price, SupplierCode, …/);
  });

  // the terminal is that of util-linux: elsewhere `script` takes other arguments
  it.runIf(isLong && process.platform === "linux")("lets sets be ticked in a terminal", async () => {
    const { folder } = await stores();
    const program = `stty cols 120 rows 40; ${process.execPath} ${resolve("dist/cli/main.js")} survey stores --pick`;
    const terminal = spawn("script", ["-qec", program, "/dev/null"], { cwd: folder });
    whenDone(() => terminal.kill());
    let seen = "";
    const shows = (words: string) =>
      new Promise<void>((found) => {
        terminal.stdout.on("data", (part) => {
          seen += String(part);
          if (seen.includes(words)) found();
        });
      });
    await shows("Suppliers");
    const ticked = shows("◼");
    terminal.stdin.write("\t");
    await ticked;
    const ended = once(terminal, "exit");
    terminal.stdin.write("\r");
    expect(await ended).toEqual([0, null]);
    expect(seen).toMatch(/Suppliers {2}3 rows/);
    const file = readFileSync(join(folder, "connectors/stores.connector.yaml"), "utf8");
    expect(file).toMatch(/sets: \[.*Suppliers\]/);
    // with no terminal, the sets are to be named
    expect((await command(["survey", "stores", "--pick"], folder)).stderr).toContain(
      "early-bridge survey stores --pick <name>",
    );
  });

  it("explains what it cannot show", async () => {
    const { folder } = await stores();
    expect(await command(["survey", "stores", "Itms"], folder)).toMatchObject({
      code: 2,
      stderr: expect.stringContaining("Perhaps Items is meant."),
    });
    writeFileSync(
      join(folder, ".env"),
      readFileSync(join(folder, ".env"), "utf8").replace("seven-keys", "six-keys"),
    );
    expect((await command(["survey", "stores"], folder)).code).toBe(3);
  });

  it("writes what is picked into the connector file, whose comments and order stay", async () => {
    const { folder } = await stores();
    const file = join(folder, "connectors/stores.connector.yaml");
    const before = readFileSync(file, "utf8");
    const wrong = await command(["survey", "stores", "--pick", "Suppliers", "Nope"], folder);
    expect(wrong).toMatchObject({ code: 2, stderr: expect.stringContaining("no set Nope") });
    expect(readFileSync(file, "utf8")).toBe(before);
    const { stdout } = await command(["survey", "stores", "--pick", "Items", "Suppliers"], folder);
    expect(stdout).toMatch(/Items +was there\n +Suppliers +added/);
    const after = readFileSync(file, "utf8");
    expect(after.replace("{ sets: [Suppliers] }", "{}")).toBe(before);
    writeFileSync(
      file,
      after.replace("odata: {", "odata:\n  # ours\n  version: '2.0' # fixed\n").replace(/ sets: .*/, ""),
    );
    await command(["survey", "stores", "--pick", "Suppliers"], folder);
    expect(readFileSync(file, "utf8")).toContain(
      "odata:\n  # ours\n  sets: [Suppliers]\n  version: '2.0' # fixed",
    );
    const run = await command(["run", "stores", "--plain"], folder);
    expect(run.stdout).toMatch(/suppliers +done|suppliers: done/);
  });

  it("of a stranger is the same for a program", async () => {
    const { url } = await odataStranger("members.v4.xml", { Members: [], Clubs: [] });
    const connector = defineConnector({ connector: "huts", api: { url }, odata: {} });
    await using api = connect(connector, {});
    const [members, clubs] = await survey({ api, count: false });
    expect(members).toMatchObject({
      name: "Members",
      stream: "members",
      key: ["ID"],
      cursors: ["ChangedAt"],
      description: "Somebody who may sleep in a hut",
      navigation: [{ name: "Club", to: "Club", many: false }],
    });
    expect(clubs?.columns.map(({ path, type }) => [path, type])).toEqual([
      ["Code", "text"],
      ["Title", "text"],
    ]);
  });
});

describe("survey of a REST API", () => {
  const document = {
    openapi: "3.0.3",
    info: { title: "Sensors", version: "1" },
    servers: [{ url: "/sensors/v1" }],
    paths: Object.fromEntries(
      ["/huts", "/huts/{hut}/readings", "/wardens"].map((path) => [
        path,
        {
          get: {
            summary: `All of ${path}`,
            responses: { 200: { content: { "application/json": { schema: LIST } } } },
          },
        },
      ]),
    ),
  };

  inLong(
    "without a document shows what the connector says; with one, all that there is, and picks of it",
    async () => {
      const { folder } = await stores();
      const own = (await command(["survey", "sensors"], folder)).stdout;
      expect(own).toMatch(
        /readings +readings +\/huts\/\{hut_id\}\/readings +hut_id, at +by number +stream huts/,
      );
      const file = join(folder, "sensors.openapi.json");
      writeFileSync(file, JSON.stringify(document));
      const withDocument = (...args: string[]) =>
        command(["survey", "sensors", ...args, "--openapi", file], folder);
      const list = (await withDocument()).stdout;
      expect(list).toMatch(/huts +huts +\/huts +id +2/);
      expect(list).toMatch(/readings +readings +\/huts\/\{hut\}\/readings +hut, id +2 +stream huts/);
      expect(list).toMatch(/wardens +— +\/wardens +id +2/);
      expect(list).toContain("early-bridge survey sensors --pick wardens");
      expect((await withDocument("wardens")).stdout).toMatch(/name +string +text +Its name/);
      const connector = join(folder, "connectors/sensors.connector.yaml");
      const before = readFileSync(connector, "utf8");
      const picked = await withDocument("--pick", "wardens", "huts");
      expect(picked.stdout).toMatch(/wardens +added\n +huts +was there/);
      const after = readFileSync(connector, "utf8");
      expect(after.startsWith(before.trimEnd())).toBe(true);
      expect(parseYaml(after, "c").value).toMatchObject({
        streams: { readings: {}, wardens: { get: "/wardens", records: "$[*]", key: "id" } },
      });
      expect((await command(["plan", "sensors"], folder)).stdout).toContain("wardens → sensors.wardens");
      const wrong = await withDocument("--pick", "wardns");
      expect([wrong.code, wrong.stderr]).toEqual([2, expect.stringContaining("Perhaps wardens is meant.")]);
    },
  );

  inLong("asks the request that the connector names", async () => {
    const { folder } = await stores();
    expect((await command(["survey", "crew"], folder)).stdout).toMatch(
      /shift +shifts +\/objects\/shift\/rows +id/,
    );
    const one = (await command(["survey", "crew", "shift", "--json"], folder)).stdout;
    expect(outputLines(one)).toMatchObject([
      {
        name: "shift",
        kind: "list",
        stream: "shifts",
        columns: expect.arrayContaining([{ path: "warden", declared: "" }]),
      },
    ]);
    const picked = await command(["survey", "crew", "--pick", "shift"], folder);
    expect([picked.code, picked.stderr]).toEqual([2, expect.stringContaining("Only names are known")]);
    // the same request may give the whole document
    const origin = await serve((_request, response) => response.end(stringify(document)));
    const connector = defineConnector({
      connector: "huts",
      api: { url: `${origin}/sensors/v1`, survey: { get: "/openapi.yaml" } },
      streams: { huts: { get: "/huts" } },
    });
    await using api = connect(connector, {});
    expect((await survey({ api })).map(({ name, stream, path }) => [name, stream, path])).toEqual([
      ["huts", "huts", "/huts"],
      ["readings", undefined, "/huts/{hut}/readings"],
      ["wardens", undefined, "/wardens"],
    ]);
  });
});
