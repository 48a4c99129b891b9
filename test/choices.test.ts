/** What a connector and a bridge choose per path: names, forms, what is hidden, computed and left out. */

import { createHmac } from "node:crypto";
import { mkdirSync, readFileSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { describe, expect, it } from "vitest";
import { command, temporaryFolder } from "./support/project.js";
import { serve } from "./support/serve.js";
import { queryFile } from "./support/truth.js";

const SEEN = ["ana@huts.example", "AT611904300234573201", "the key is under the stone", "77.125"];

const good = (id: number) => ({
  id,
  guest: { email: "ana@huts.example", iban: "AT611904300234573201", door: "the key is under the stone" },
  price: "1.234,50",
  arrived: "04.07.2026 12:00",
  open: "ja",
  nights: 3,
  rate: 12.5,
  debug: { trace: "x" },
  extras: [{ name: "sauna", door: "the key is under the stone" }],
});

const CONNECTOR = `connector: desk
settings: { base: { type: string, format: uri } }
api: { url: "{+base}" }
streams:
  stays:
    get: /stays
    records: $.items[*]
    key: id
    compute: { worth: "double(record.nights) * record.rate", season: "record.nights > 2 ? 'long' : 'short'" }
    fields: { except: [debug] }
    columns:
      guest.email: { hash: true, name: guest_hash }
      guest.iban: { mask: 4 }
      guest.door: { drop: true }
      price: { type: "decimal(12,2)", form: { decimal: ",", thousands: "." } }
      arrived: { type: timestamp, form: { pattern: dd.MM.yyyy HH:mm, zone: Europe/Vienna } }
      open: { type: boolean, form: { yes: [ja], no: [nein] } }
      extras: { name: stays_wishes }
`;

async function project(items: readonly unknown[], account = "", stream = "") {
  const url = await serve((_request, response) => response.end(JSON.stringify({ items })));
  const folder = temporaryFolder();
  mkdirSync(join(folder, "connectors"));
  writeFileSync(join(folder, "connectors/desk.connector.yaml"), CONNECTOR);
  const bridges = `accounts: { desk: { connector: ./connectors/desk.connector.yaml, base: ${url}${account} } }
warehouses: { local: { duckdb: ./huts.duckdb } }
bridges: { desk: { from: desk, to: local, streams: { stays: { ${stream} } } } }
`;
  writeFileSync(join(folder, "bridges.yaml"), bridges);
  const query = (sql: string) => queryFile(join(folder, "huts.duckdb"), sql);
  const run = (...more: string[]) =>
    command(["run", "desk", "--plain", ...more], folder, { PEPPER: "pepper" });
  return { folder, query, run };
}

describe("choices per path", () => {
  it("name, read, hide, compute and leave out; nothing hidden is anywhere", async () => {
    const odd = { ...good(2), price: "12.34.5", rate: "free" };
    const { folder, query, run } = await project(
      [good(1), odd, { ...good(3), open: "perhaps" }],
      ", hash_secret: $PEPPER",
    );
    const ran = await run("--record", join(folder, "run.har"));
    expect([ran.code, ran.stderr]).toEqual([0, ""]);
    const columns =
      "SELECT * EXCLUDE (eb_run, eb_loaded_at) REPLACE (epoch(arrived)::INTEGER AS arrived) FROM desk.stays";
    const hash = createHmac("sha256", "pepper").update("ana@huts.example").digest("hex");
    expect(await query(columns)).toEqual([
      {
        id: "1",
        guest_hash: hash,
        guest_iban: "***3201",
        price: "1234.50",
        arrived: Date.UTC(2026, 6, 4, 10) / 1000,
        open: true,
        nights: "3",
        rate: 12.5,
        worth: 37.5,
        season: "long",
      },
    ]);
    const wishes = "SELECT * EXCLUDE (eb_run, eb_loaded_at) FROM desk.stays_wishes";
    expect(await query(wishes)).toEqual([
      { stays_id: "1", eb_position: "0", name: "sauna", door: "the key is under the stone" },
    ]);
    const kept = await query(
      "SELECT reason, path, message, record FROM early_bridge.quarantine ORDER BY ALL",
    );
    expect(kept.map(({ reason, path }) => [reason, path])).toEqual([
      ["not_computed", "worth"],
      ["type_mismatch", "open"],
    ]);
    for (const record of kept.map((each) => JSON.parse(String(each.record)))) {
      expect(record.guest).toEqual({ email: `eb-sha256:${hash}`, iban: "***3201" });
      expect(record.debug).toEqual({ trace: "x" });
    }
    // what is hidden in the guest is not hidden elsewhere
    const recording = readFileSync(join(folder, "run.har"), "utf8");
    expect(recording).toContain("***3201");
    for (const secret of SEEN.slice(0, 2)) expect(recording + ran.stdout).not.toContain(secret);
    expect(recording).not.toContain("pepper");
    const replayed = await run("--replay", join(folder, "run.har"));
    expect(replayed.code).toBe(0);
    expect(await query(`SELECT guest_hash FROM desk.stays`)).toEqual([{ guest_hash: hash }]);
  });

  it("are told by the plan, and that plain hashes can be guessed at", async () => {
    const { folder } = await project([good(1)]);
    const planned = await command(["plan", "desk"], folder);
    expect(planned.stdout).toContain("guest.email by hash, guest.iban but its end, guest.door whole");
    expect(planned.stdout).toContain("worth = double(record.nights) * record.rate");
    expect(planned.stdout).toContain("Hashes of guest.email can be guessed at, value by value");
  });

  it("of the bridge go before the connector's", async () => {
    const said =
      "columns: { guest.email: { name: mail }, nights: { type: text } }, fields: { only: [guest.email, nights] }";
    const { query, run } = await project([good(1)], "", said);
    expect((await run()).code).toBe(0);
    expect(
      await query("DESCRIBE desk.stays").then((rows) =>
        rows.map((row) => [row.column_name, row.column_type]),
      ),
    ).toEqual([
      ["id", "BIGINT"],
      ["mail", "VARCHAR"],
      ["nights", "VARCHAR"],
      ["eb_run", "BIGINT"],
      ["eb_loaded_at", "TIMESTAMP WITH TIME ZONE"],
    ]);
  });

  it.each([
    [
      "hash_secret: pepper",
      ", hash_secret: pepper",
      "",
      "hash_secret of account desk is a secret and stands in the file itself.",
    ],
    ["a mask of the key", "", "columns: { id: { mask: 2 } }", "records could no longer be told apart"],
    [
      "a form that does not fit",
      "",
      "columns: { nights: { type: int64, form: { yes: [x] } } }",
      "yes does not go with type int64",
    ],
  ])("are refused where they cannot be: %s", async (_what, account, stream, message) => {
    const { run } = await project([good(1)], account, stream);
    const ran = await run();
    expect(ran.code).toBe(2);
    expect(ran.stderr).toContain(message);
  });
});
