/** `survey`: what an OData service holds, through the command and through the public function. */

import { spawn } from "node:child_process";
import { once } from "node:events";
import { readFileSync, writeFileSync } from "node:fs";
import { join, resolve } from "node:path";
import { describe, expect, it } from "vitest";
import { connect, defineConnector, survey } from "../src/index.js";
import { startNeighbours } from "../src/standins/index.js";
import { odataStranger } from "./support/odata-stranger.js";
import { outputLines } from "./support/output.js";
import { command, demoProject, whenDone } from "./support/project.js";

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
      { type: "set", account: "stores", set: "Items", rows: 80 },
      { type: "set", account: "stores", set: "Suppliers", rows: 3 },
    ]);
  });

  it("is followed by plan and probe, which say what a service is", async () => {
    const { folder } = await stores();
    const plan = (await command(["plan", "stores"], folder)).stdout;
    expect(plan).toMatch(/pages +by the service's next links, and as many as it counts/);
    expect(plan).toContain("Only metadata was asked for.");
    const probe = (await command(["probe", "stores"], folder)).stdout;
    expect(probe).toMatch(/metadata .*OData 2.0, 2 sets: Items, Suppliers; 1 carried/);
    expect(probe).toMatch(/30 records on the first page: Id, HutId, Item, Count, Price, SupplierCode, …/);
  });

  // the terminal is that of util-linux: elsewhere `script` takes other arguments
  it.skipIf(process.platform !== "linux")("lets sets be ticked in a terminal", async () => {
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
      "early-bridge survey stores --pick <set>",
    );
  });

  it("explains what it cannot show", async () => {
    const { folder } = await stores();
    expect(await command(["survey", "stores", "Itms"], folder)).toMatchObject({
      code: 2,
      stderr: expect.stringContaining("Perhaps Items is meant."),
    });
    expect((await command(["survey", "sensors"], folder)).stderr).toContain("is for no OData service");
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
      set: "Members",
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
