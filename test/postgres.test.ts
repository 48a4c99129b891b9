/** PostgreSQL: its types, its locks, its connections that drop, and what it may refuse. */

import { readFileSync } from "node:fs";
import { createServer } from "node:net";
import { afterEach, describe, expect, it } from "vitest";
import { parseYaml } from "../src/core/define/check.js";
import { projectSchema } from "../src/core/define/project-schema.js";
import { warehouseNeeds } from "../src/core/into/warehouse-needs.js";
import type { ColumnType } from "../src/core/shape/column-type.js";
import type { Api } from "../src/index.js";
import { sqlType } from "../src/warehouse/postgres/dialect.js";
import { postgres } from "../src/warehouse/postgres/index.js";
import { storableJson } from "../src/warehouse/postgres/storable-json.js";
import { apiOf, bridgeInto, carryInto } from "./support/carry.js";
import type { fakeApi } from "./support/fake-api.js";
import { everyNth, isLong } from "./support/long.js";
import { startPostgres } from "./support/own-postgres.js";
import { freshDatabase, onServer, SERVER } from "./support/postgres.js";
import { listen } from "./support/serve.js";
import { LEAST, LIMIT_COLUMNS, MOST } from "./support/type-limits.js";

const closing: (() => unknown)[] = [];
afterEach(async () => {
  for (const close of closing.splice(0).reverse()) await close();
});

const bridgeTo = (url: string, api: Api, options = {}) => bridgeInto(postgres(url), api, options);
const carry = carryInto(postgres);

describe("values", () => {
  it("stand as the API gave them, at the limits of their types", async () => {
    const url = await freshDatabase();
    const columns = { ...LIMIT_COLUMNS, amount: { type: "decimal(18,4)" } } as const;
    const least = { ...LEAST, amount: "-99999999999999.9999" };
    const most = {
      ...MOST,
      amount: "10000.5",
      f: 5e-324,
      any: { b: 1, a: [null, "x"] },
      text: 'Hütte "Ötzi", \\ 😀\n',
    };
    await carry(url, [least, most, { ...most, id: "0", wide: "0", amount: "-0.0001" }], { columns });
    const rows = await onServer(
      url,
      `SELECT id, small, wide, amount, f, day, at AT TIME ZONE 'UTC' AS at, local, ok, encode(file, 'hex') AS file, "any",
         text, uuid FROM huts.s ORDER BY id`,
    );
    expect(rows).toEqual([
      {
        ...least,
        at: "0001-01-01 00:00:00",
        local: "0001-01-01 00:00:00",
        ok: false,
        f: "-1.7976931348623157e+308",
        any: "[]",
      },
      expect.objectContaining({ id: "0", wide: "0.0000000000", amount: "-0.0001" }),
      {
        ...most,
        wide: "0.0000000001",
        amount: "10000.5000",
        f: "5e-324",
        at: "9999-12-31 23:59:59.999999",
        local: "9999-12-31 23:59:59.999999",
        file: "00ff80",
        any: '{"a": [null, "x"], "b": 1}',
      },
    ]);
  });

  it("have another form where the server holds none of theirs", async () => {
    const url = await freshDatabase();
    const record = { id: 1, text: "a\0b", list: ["a\0b", "\ud83d", "\\u0000"], "n\0": 1 };
    await carry(url, [record], { columns: { list: { type: "json" } } });
    const [row] = await onServer(url, "SELECT text, list FROM huts.s");
    expect(row).toEqual({ text: "a␀b", list: '["a␀b", "\ufffd", "\\\\u0000"]' });
    expect(storableJson('{"a":1e99999,"b":"1e99999\\\\","c":-2.5E-100000}')).toBe(
      '{"a":"1e99999","b":"1e99999\\\\","c":"-2.5E-100000"}',
    );
  });
});

describe("a table that is replaced", () => {
  it("keeps its views and who may read it, and takes new columns and types", async () => {
    const url = await freshDatabase();
    await carry(
      url,
      [
        { id: 1, v: "1", kids: [{ n: 1 }] },
        { id: 2, v: "2" },
      ],
      {},
      "replace",
    );
    await onServer(url, "CREATE VIEW huts.seen AS SELECT id FROM huts.s");
    await onServer(url, "GRANT SELECT ON huts.s TO PUBLIC");
    await carry(url, [{ id: 3, v: "3", more: true }], { columns: { v: { type: "int64" } } }, "replace");
    expect(await onServer(url, "SELECT id FROM huts.seen")).toEqual([{ id: "3" }]);
    expect(await onServer(url, "SELECT v + 1 AS v, more FROM huts.s")).toEqual([{ v: "4", more: true }]);
    expect(await onServer(url, "SELECT count(*) AS n FROM huts.s_kids")).toEqual([{ n: "0" }]);
    const [acl] = await onServer(url, "SELECT relacl::TEXT AS acl FROM pg_class WHERE relname = 's'");
    expect(String(acl!.acl)).toContain("=r/");
  });
});

describe("a server that crashes", () => {
  it.each(everyNth(["upsert", "append", "versions", "replace"] as const, 2))(
    "loses nothing of what stood and doubles nothing (%s)",
    async (write) => {
      const own = await startPostgres();
      closing.push(own.stop);
      const LAST = 30;
      let back: Promise<void> | undefined;
      let moment = 0;
      const answer: Parameters<typeof fakeApi>[1] = ({ query }) => {
        const page = Number(query.get("page"));
        // while a later page is asked for, an earlier one is on its way into its table
        if (back === undefined && page === moment) back = own.crash();
        return {
          body:
            page > LAST
              ? []
              : Array.from({ length: 10 }, (_, i) => ({ id: page * 10 + i, kids: [{ n: i }] })),
        };
      };
      for (moment of isLong ? [2, 5, 13, LAST] : [8]) {
        await onServer(own.url, "DROP SCHEMA IF EXISTS early_bridge, huts CASCADE");
        back = undefined;
        const run = async () =>
          (
            await bridgeTo(own.url, apiOf({ pages: { number: 1, query: "page" } }, answer), {
              checkpoint: { rows: 20 },
              streams: { s: { write } },
            })
          ).run();
        const broken = await run();
        await back;
        // one that was told of at the last page may have been faster than the crash
        if (moment === LAST && broken.outcome === "done") continue;
        expect(broken.streams[0]!.error).toMatchObject({
          code: "WAREHOUSE_UNREACHABLE",
          hint: expect.stringMatching(/^Run again|is the server running/),
          where: { stream: "s" },
        });
        expect(await run()).toMatchObject({ outcome: "done" });
        const [row] = await onServer(
          own.url,
          "SELECT count(*) AS rows, count(DISTINCT id) AS ids, (SELECT count(*) FROM huts.s_kids) AS kids FROM huts.s",
        );
        expect(row).toEqual({ rows: "300", ids: "300", kids: "300" });
      }
    },
  );
});

describe("docs/postgres.md", () => {
  const page = readFileSync("docs/postgres.md", "utf8");

  it("tells what to grant, and the columns' types", () => {
    const [, sql] = /```sql\n([\s\S]*?)```/.exec(page)!;
    expect(
      postgres("postgres://bridge@db.huts.example/huts").grants(warehouseNeeds("bookings", undefined)),
    ).toContain(sql!.trim());
    const rows = [...page.matchAll(/^\| `(\w+)(?:\(p,s\))?`\s*\| `([^`]*)`/gm)].map(([, kind, type]) => [
      kind,
      type,
    ]);
    const kinds = [
      "boolean",
      "int64",
      "float64",
      "decimal",
      "text",
      "date",
      "timestamp",
      "local_timestamp",
      "uuid",
      "bytes",
      "json",
    ];
    expect(rows.map(([kind]) => kind)).toEqual(kinds);
    const types = kinds.map((kind) => sqlType({ kind, precision: 9, scale: 2 } as ColumnType).toLowerCase());
    expect(rows.map(([, type]) => type!.replace("p,s", "9,2"))).toEqual(types);
  });

  it("has a project that is accepted", () => {
    const [, text] = /```yaml\n([\s\S]*?)```/.exec(page)!;
    const { value } = parseYaml(text!, "bridges.yaml");
    expect(projectSchema.parse(value).warehouses).toEqual({ team: { postgres: "$WAREHOUSE_URL" } });
  });
});

describe("the server", () => {
  /** Another user of a new database, who may do nothing; and what its owner runs there. */
  async function newcomer() {
    const url = new URL(await freshDatabase());
    const role = "eb_test_bridge";
    await onServer(SERVER, `DROP ROLE IF EXISTS ${role}`);
    await onServer(SERVER, `CREATE ROLE ${role} LOGIN PASSWORD 'of-the-bridge'`);
    closing.push(async () => {
      await onServer(url.href, `DROP OWNED BY ${role} CASCADE`);
      await onServer(SERVER, `DROP ROLE ${role}`);
    });
    const own = new URL(url);
    own.username = role;
    own.password = "of-the-bridge";
    await onServer(url.href, `REVOKE ALL ON DATABASE ${url.pathname.slice(1)} FROM PUBLIC`);
    const owner = async (statements: string) => {
      const all = statements.replace(/^--.*$/gm, "").split(/;\s*/);
      for (const each of all.filter((text) => text.trim() !== "")) await onServer(url.href, each);
    };
    return { own: own.href, owner };
  }

  it("is told to look at tables that it knows nothing of: else a few records take as long as all", async () => {
    const url = await freshDatabase();
    const records = Array.from({ length: 25_000 }, (_, id) => ({ id, v: 1, kids: [{ n: id }] }));
    const known = () =>
      onServer(
        url,
        "SELECT DISTINCT tablename::TEXT AS t FROM pg_stats WHERE schemaname = 'huts' ORDER BY 1",
      );
    await carry(url, records);
    expect(await known()).toEqual([]);
    expect(await carry(url, [{ id: 7, v: 2, kids: [{ n: 8 }] }])).toMatchObject({ changed: 1 });
    expect(await known()).toEqual([{ t: "s" }, { t: "s_kids" }]);
    // which then goes by the index of the child rows
    const plan = await onServer(
      url,
      "EXPLAIN DELETE FROM huts.s_kids AS k USING (VALUES (1), (2)) AS s (id) WHERE k.s_id = s.id",
    );
    expect(JSON.stringify(plan)).toContain("Index");
  });

  it("needs to grant no more than is said", async () => {
    const { own, owner } = await newcomer();
    await owner(postgres(own).grants(warehouseNeeds("huts", undefined)));
    expect(await carry(own, [{ id: 1, kids: [{ n: 1 }] }])).toMatchObject({ added: 1 });
    expect(await carry(own, [{ id: 2 }])).toMatchObject({ added: 1 });
    const session = await postgres(own).open();
    await session.tryWriting("huts");
    await expect(session.tryWriting("elsewhere")).rejects.toMatchObject({ code: "WAREHOUSE_FAILED" });
    await session.close();
  });

  it("nor for a table that stands, and what is not granted is told before anything is asked", async () => {
    const { own, owner } = await newcomer();
    await owner("CREATE SCHEMA crm; CREATE TABLE crm.contacts (id BIGINT PRIMARY KEY, name TEXT)");
    const streams = { s: { into: { schema: "crm", table: "contacts" }, deletes: "remove" } } as const;
    const needs = warehouseNeeds("huts", { s: { ...streams.s, into: { ...streams.s.into, columns: {} } } });
    expect(needs.schema).toBeUndefined();
    await owner(postgres(own).grants({ ...needs, userTables: [] }));
    await owner(
      "GRANT USAGE ON SCHEMA crm TO eb_test_bridge; GRANT SELECT ON crm.contacts TO eb_test_bridge",
    );
    const run = async () => {
      const api = apiOf({}, () => ({ body: [{ id: 1, name: "A" }] }));
      return (await bridgeTo(own, api, { streams })).run();
    };
    const report = await run();
    expect(report.error).toMatchObject({ code: "TABLE_MISMATCH" });
    expect(report.error!.message).toContain("its owner has not granted INSERT, UPDATE, DELETE on it");
    await owner(postgres(own).grants(needs));
    expect(await run()).toMatchObject({ outcome: "done", streams: [{ added: 1 }] });
    const session = await postgres(own).open();
    await expect(session.tryWriting("crm")).rejects.toMatchObject({ code: "WAREHOUSE_FAILED" });
    await session.close();
  });

  it.each([
    ["is not there", (url: URL) => Object.assign(url, { port: "1" }), "Check host and port"],
    [
      "has no such database",
      (url: URL) => Object.assign(url, { pathname: "/eb_test_nowhere" }),
      "Make the database",
    ],
  ])("that %s is told of, without a password", async (_, change, hint) => {
    const url = change(new URL(SERVER));
    if (url.password === "") url.password = "under-the-third-stone";
    const error = await postgres(url.href)
      .open()
      .then(undefined, (e: unknown) => e);
    expect(error).toMatchObject({ code: "WAREHOUSE_UNREACHABLE", hint: expect.stringMatching(hint) });
    expect(JSON.stringify(error) + String(error)).not.toContain(url.password);
  });

  it("is spoken to over TLS where that is asked for, and must show whose it is", async () => {
    const own = await startPostgres();
    closing.push(own.stop);
    const url = (host: string, query: Record<string, string>) => {
      const to = new URL(own.url);
      to.hostname = host;
      for (const [name, value] of Object.entries(query)) to.searchParams.set(name, value);
      return to.href;
    };
    const isEncrypted = async (to: string) => {
      const session = await postgres(to).open();
      const { way } = await session.about();
      await session.close();
      return /^TLSv1\.\d$/.test(way ?? "");
    };
    expect(await isEncrypted(url("127.0.0.1", {}))).toBe(false);
    for (const sslmode of ["require", "verify-ca", "verify-full"])
      expect(await isEncrypted(url("localhost", { sslmode, sslrootcert: own.certificate }))).toBe(true);
    const refused = { code: "WAREHOUSE_UNREACHABLE", hint: expect.stringContaining("sslrootcert") };
    await expect(isEncrypted(url("localhost", { sslmode: "require" }))).rejects.toMatchObject(refused);
    await expect(
      isEncrypted(url("127.0.0.1", { sslmode: "require", sslrootcert: own.certificate })),
    ).rejects.toMatchObject(refused);
    const plain = await listen(createServer((socket) => socket.once("data", () => socket.end("N"))));
    await expect(postgres(`postgres://localhost:${plain}/huts?sslmode=require`).open()).rejects.toMatchObject(
      {
        hint: expect.stringContaining("ssl = on"),
      },
    );
    const wrong = new URL(own.url);
    wrong.password = "under-the-third-stone";
    await expect(isEncrypted(wrong.href)).rejects.toMatchObject({
      hint: expect.stringContaining("password"),
    });
  });

  it("must hold UTF-8", async () => {
    const name = "eb_test_latin1";
    await onServer(SERVER, `DROP DATABASE IF EXISTS ${name}`);
    await onServer(
      SERVER,
      `CREATE DATABASE ${name} ENCODING 'LATIN1' LC_COLLATE 'C' LC_CTYPE 'C' TEMPLATE template0`,
    );
    const url = Object.assign(new URL(SERVER), { pathname: `/${name}` });
    await expect(postgres(url.href).open()).rejects.toMatchObject({
      code: "WAREHOUSE_UNREACHABLE",
      message: "The PostgreSQL database is written in LATIN1.",
    });
  });
});
