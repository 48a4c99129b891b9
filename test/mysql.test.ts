/** MariaDB and MySQL: their types, their way of changing tables apart from transactions, and what they may refuse. */

import { readFileSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import selfsigned from "selfsigned";
import { afterEach, describe, expect, it } from "vitest";
import { parseYaml } from "../src/core/define/check.js";
import { projectSchema } from "../src/core/define/project-schema.js";
import { type WarehouseNeeds, warehouseNeeds } from "../src/core/into/warehouse-needs.js";
import type { ColumnType } from "../src/core/shape/column-type.js";
import { columnType } from "../src/warehouse/mysql/dialect.js";
import { mysql } from "../src/warehouse/mysql/index.js";
import { isRecent, MARIADB, MYSQL, makeOf } from "../src/warehouse/mysql/make.js";
import { mariadb } from "../src/warehouse/mysql/mariadb.js";
import { apiOf, bridgeInto, carryInto } from "./support/carry.js";
import { freshPrefix, onMysql, SERVER } from "./support/mysql.js";
import { startMariadb, startMysql } from "./support/own-mysql.js";
import { temporaryFolder } from "./support/project.js";
import { LEAST, LIMIT_COLUMNS, MOST } from "./support/type-limits.js";
import { theServer } from "./support/warehouse.js";

const closing: (() => unknown)[] = [];
afterEach(async () => {
  for (const close of closing.splice(0).reverse()) await close();
});

const isMysql = theServer.key === "mysql";
const make = isMysql ? MYSQL : MARIADB;
const startOwn = isMysql ? startMysql : startMariadb;
const open = (url: string) => theServer.warehouse(url).open();
const grantsOf = (url: string, needs: WarehouseNeeds) => theServer.warehouse(url).grants(needs);

const carry = carryInto(theServer.warehouse);

/** The columns of the indexes of a table, and how much of each is in them. */
const indexOf = async (url: string, table: string) =>
  (await onMysql(url, `SHOW INDEX FROM huts.${table}`)).map(
    ({ Key_name, Column_name, Sub_part }) =>
      `${Key_name}: ${Column_name}${Sub_part === null ? "" : `(${Sub_part})`}`,
  );

const GREATEST = { ...MOST, text: `${MOST.text} ␀\0` };
/** as the server writes them */
const STORED = [
  { ...LEAST, at: "0001-01-01 00:00:00.000000", local: "0001-01-01 00:00:00.000000", any: "[]" },
  {
    ...GREATEST,
    at: "9999-12-31 23:59:59.999999",
    local: "9999-12-31 23:59:59.999999",
    file: "00FF80",
    any: '{"b":1,"a":[null,"x\\\\"]}',
  },
];

async function storedValues(url: string) {
  await carry(url, [LEAST, GREATEST], { columns: LIMIT_COLUMNS });
  const rows = await onMysql(
    url,
    "SELECT id, small, wide, f, day, at, local, ok, hex(file) AS file, any, text, uuid FROM huts.s ORDER BY id",
  );
  return rows.map((row) => ({ ...row, f: Number(row.f) }));
}

describe("values", () => {
  it("stand as the API gave them, at the limits of their types", async () => {
    expect(await storedValues(await freshPrefix())).toEqual(STORED);
  });

  it("are the same on a server that lets no client send files", async () => {
    const { url, stop } = await startOwn(["--local-infile=0"]);
    closing.push(stop);
    expect(await storedValues(`${url}/eb_test`)).toEqual(STORED);
    const long = Array.from({ length: 3000 }, (_, id) => ({ id, text: "ü'\\".repeat(1000) }));
    expect(await carry(`${url}/eb_test_long`, long)).toMatchObject({ added: 3000 });
    const [row] = await onMysql(`${url}/eb_test_long`, "SELECT min(char_length(text)) AS n FROM huts.s");
    expect(row).toEqual({ n: "3000" });
  });

  it("tell keys apart that differ in case, in accents or in blanks at the end alone", async () => {
    const url = await freshPrefix();
    const keys = ["a", "A", "ä", "a ", "a\0", ""];
    expect(
      await carry(
        url,
        keys.map((id) => ({ id })),
      ),
    ).toMatchObject({ added: 6 });
    expect(
      await carry(
        url,
        keys.map((id) => ({ id, again: true })),
      ),
    ).toMatchObject({ changed: 6, added: 0 });
    expect(await onMysql(url, "SELECT count(*) AS n, count(DISTINCT id) AS ids FROM huts.s")).toEqual([
      { n: "6", ids: "6" },
    ]);
  });

  it("nest as deep as they like", async () => {
    const url = await freshPrefix();
    const deep = JSON.parse(`${"[".repeat(200)}1${"]".repeat(200)}`);
    await carry(url, [{ id: 1, deep }], { columns: { deep: { type: "json" } } });
    const [row] = await onMysql(url, "SELECT deep FROM huts.s");
    expect(JSON.parse(String(row!.deep))).toEqual(deep);
  });
});

describe("tables", () => {
  const widened = [
    [{ id: 1, v: 1 }, { id: 2, v: 2.5 }, "float64", ["1", "2.5"]],
    [{ id: 1, v: 1 }, { id: 2, v: "two" }, "text", ["1", "two"]],
    [{ id: 1, v: true }, { id: 2, v: "two" }, "text", ["true", "two"]],
    [
      { id: 1, v: "2026-01-01" },
      { id: 2, v: "2026-01-01T10:00:00Z" },
      "timestamp",
      ["2026-01-01 00:00:00.000000", "2026-01-01 10:00:00.000000"],
    ],
    [
      { id: 1, v: "2026-01-01T10:00:00.5Z" },
      { id: 2, v: "soon" },
      "text",
      ["2026-01-01T10:00:00.5Z", "soon"],
    ],
    [{ id: 1, v: 1e200 }, { id: 2, v: "much" }, "text", ["1e+200", "much"]],
    [{ id: 1, v: 0.000001 }, { id: 2, v: "little" }, "text", ["0.000001", "little"]],
  ] as const;

  it.each(widened)(
    "keep every value of a column that widens: %j, then %j",
    async (first, second, type, values) => {
      const url = await freshPrefix();
      await carry(url, [first]);
      await carry(url, [second]);
      const rows = await onMysql(url, "SELECT v FROM huts.s ORDER BY id");
      expect(rows.map(({ v }) => String(v))).toEqual(values);
      expect(await onMysql(url, "SELECT type FROM early_bridge.columns WHERE column_name = 'v'")).toEqual([
        { type },
      ]);
    },
  );

  it("may have a key that widens, and is found by it all the same", async () => {
    const url = await freshPrefix();
    await carry(url, [{ id: 1, kids: [{ n: 1 }] }]);
    const report = await carry(url, [
      { id: "1", kids: [{ n: 2 }] },
      { id: "x", kids: [{ n: 3 }] },
    ]);
    expect(report).toMatchObject({ added: 1, unchanged: 1 });
    expect(await onMysql(url, "SELECT s_id, n FROM huts.s_kids ORDER BY n")).toEqual([
      { s_id: "1", n: "2" },
      { s_id: "x", n: "3" },
    ]);
    expect(await indexOf(url, "s_kids")).toEqual(["eb_key: s_id(191)"]);
  });

  it("have their key as primary key where an index takes its values whole, and an index over it else", async () => {
    const url = await freshPrefix();
    await carry(url, [{ id: 1, no: 1, kids: [{ n: 1 }] }], { key: ["id", "no"] });
    expect(await indexOf(url, "s")).toEqual(["PRIMARY: id", "PRIMARY: no"]);
    expect(await indexOf(url, "s_kids")).toEqual(["eb_key: s_id", "eb_key: s_no"]);
    await carry(url, [{ id: 1, no: "a", kids: [{ n: 1 }] }], { key: ["id", "no"] });
    expect(await indexOf(url, "s")).toEqual(["eb_key: id", "eb_key: no(191)"]);
    await carry(url, [{ id: "b", no: "a" }], { key: ["id", "no"] });
    expect(await indexOf(url, "s")).toEqual(["eb_key: id(191)", "eb_key: no(191)"]);
    expect(await indexOf(url, "s_kids")).toEqual(["eb_key: s_id(191)", "eb_key: s_no(191)"]);
    expect(await onMysql(url, "SELECT id, no FROM huts.s ORDER BY id, no")).toEqual([
      { id: "1", no: "1" },
      { id: "1", no: "a" },
      { id: "b", no: "a" },
    ]);
  });

  it("may have a key of several fields that widen at once, and one of many texts", async () => {
    const url = await freshPrefix();
    await carry(url, [{ id: 1, no: 1 }], { key: ["id", "no"] });
    await carry(url, [{ id: "b", no: "a" }], { key: ["id", "no"] });
    expect(await indexOf(url, "s")).toEqual(["eb_key: id(191)", "eb_key: no(191)"]);
    const key = Array.from({ length: 20 }, (_, i) => `k${i}`);
    const record = (value: string) => Object.fromEntries(key.map((name) => [name, value]));
    const other = await freshPrefix();
    expect(await carry(other, [record("a"), record("b")], { key })).toMatchObject({ added: 2 });
    expect(await carry(other, [record("b"), record("c")], { key })).toMatchObject({ added: 1, unchanged: 1 });
    expect((await indexOf(other, "s")).length).toBe(16);
    const versions = await freshPrefix();
    for (const v of [1, 2])
      expect(await carry(versions, [{ ...record("a"), v }], { key }, "versions")).toMatchObject({
        added: 2 - v,
        changed: v - 1,
      });
  });

  it("of another bridge that is at work in the same schema are left alone", async () => {
    const url = await freshPrefix();
    await carry(url, [{ id: 1 }]);
    await onMysql(url, "CREATE TABLE huts.eb_next_other (id BIGINT)");
    await onMysql(url, "CREATE TABLE huts.other (id BIGINT, eb_run BIGINT, eb_loaded_at DATETIME(6))");
    await carry(url, [{ id: 2 }]);
    expect(await onMysql(url, "SELECT count(*) AS n FROM huts.eb_next_other")).toEqual([{ n: "0" }]);
    expect(await onMysql(url, "SELECT count(*) AS n FROM huts.other")).toEqual([{ n: "0" }]);
  });

  it("that a broken-off run has left half changed are put right by the next one", async () => {
    const url = await freshPrefix();
    await carry(url, [{ id: 1, v: 1, w: 1 }]);
    // a wider column that the ledger knows of, one that it does not, a table without rows, a column without values
    for (const statement of [
      `ALTER TABLE huts.s ADD COLUMN eb_wider LONGTEXT COMMENT '{"column":"v","type":"text"}'`,
      "UPDATE huts.s SET eb_wider = 'one'",
      "UPDATE early_bridge.columns SET type = 'text' WHERE column_name = 'v'",
      "CREATE TABLE huts.s_kids (x BIGINT, eb_run BIGINT, eb_loaded_at DATETIME(6))",
      "CREATE TABLE huts.eb_next_s (id BIGINT)",
      "ALTER TABLE huts.s ADD COLUMN more BIGINT",
    ])
      await onMysql(url, statement);
    await carry(url, [{ id: 2, v: "two", w: 2, more: "text", kids: [{ n: 1 }] }]);
    expect(await onMysql(url, "SELECT id, v, w, more FROM huts.s ORDER BY id")).toEqual([
      { id: "1", v: "one", w: "1", more: null },
      { id: "2", v: "two", w: "2", more: "text" },
    ]);
    expect(await onMysql(url, "SELECT n FROM huts.s_kids")).toEqual([{ n: "1" }]);
    await onMysql(
      url,
      `ALTER TABLE huts.s ADD COLUMN eb_wider LONGTEXT COMMENT '{"column":"w","type":"text"}'`,
    );
    await carry(url, [{ id: 3, w: 3 }]);
    expect(await onMysql(url, "SELECT w + 1 AS w FROM huts.s WHERE id = 3")).toEqual([{ w: "4" }]);
  });

  it("whose key was to widen when a run broke off are found by it", async () => {
    const url = await freshPrefix();
    await carry(url, [
      { id: 1, kids: [{ n: 1 }] },
      { id: 2, kids: [] },
    ]);
    for (const [table, column] of [
      ["s", "id"],
      ["s_kids", "s_id"],
    ]) {
      for (const statement of [
        `ALTER TABLE huts.${table} ADD COLUMN eb_wider LONGTEXT COMMENT '{"column":"${column}","type":"text"}'`,
        `UPDATE huts.${table} SET eb_wider = ${column}`,
        `UPDATE early_bridge.columns SET type = 'text' WHERE column_name = '${column}'`,
      ])
        await onMysql(url, statement);
    }
    expect(await carry(url, [{ id: "x", kids: [{ n: 3 }] }])).toMatchObject({ added: 1 });
    expect(await onMysql(url, "SELECT id FROM huts.s ORDER BY id")).toEqual(
      ["1", "2", "x"].map((id) => ({ id })),
    );
    expect([await indexOf(url, "s"), await indexOf(url, "s_kids")]).toEqual([
      ["eb_key: id(191)"],
      ["eb_key: s_id(191)"],
    ]);
  });
});

describe("a checkpoint of many records", () => {
  const HIDES = { gone: "record.gone" };

  /** Three runs: each record comes twice, and a part of them is gone in between, or is another one. */
  async function carryThrice(url: string, write: "upsert" | "versions", records: number) {
    for (const v of [1, 2, 3]) {
      const once = Array.from({ length: records }, (_, i) => ({
        id: `key ${i}`,
        ...{ v: i % 3 === 0 ? v : 0, gone: v === 2 && i % 3 === 1, kids: [{ n: i }, { n: v }] },
      }));
      await carry(url, [...once, ...once], HIDES, write);
    }
  }

  /** The server goes on believing that the tables have a row. */
  async function makeStale(url: string, write: "upsert" | "versions") {
    await carry(url, [{ id: "key", v: 0, gone: false, kids: [{ n: 0 }] }], HIDES, write);
    for (const table of ["huts.s", "huts.s_kids"]) {
      await onMysql(url, `ALTER TABLE ${table} STATS_PERSISTENT = 1, STATS_AUTO_RECALC = 0`);
      await onMysql(url, `ANALYZE TABLE ${table}`);
    }
  }

  it.each([false, true])(
    "reads no more rows for each of them than one of few; stale: %s",
    async (isStale) => {
      const own = await startOwn();
      closing.push(own.stop);
      const readBy = async (write: "upsert" | "versions", records: number) => {
        const url = `${own.url}/${write}_${records}`;
        const reads = async () => {
          const rows = await onMysql(url, "SHOW GLOBAL STATUS LIKE 'Handler_read%'");
          return rows.reduce((sum, { Value }) => sum + Number(Value), 0);
        };
        if (isStale) await makeStale(url, write);
        const before = await reads();
        await carryThrice(url, write, records);
        return ((await reads()) - before) / records;
      };
      for (const write of ["upsert", "versions"] as const)
        expect(await readBy(write, 1200)).toBeLessThan((await readBy(write, 300)) * 1.5);
    },
  );
});

/** A server with a certificate for a name. */
async function certified(name: string) {
  const pems = await selfsigned.generate([{ name: "commonName", value: name }], {
    keySize: 2048,
    algorithm: "sha256",
    notAfterDate: new Date(Date.UTC(2050, 0, 1)),
    extensions: [{ name: "subjectAltName", altNames: [{ type: 2, value: name }] }],
  });
  const folder = temporaryFolder();
  const [certificate, key] = [join(folder, "server.crt"), join(folder, "server.key")];
  writeFileSync(certificate, pems.cert);
  writeFileSync(key, pems.private, { mode: 0o600 });
  const { url, stop } = await startOwn([`--ssl-cert=${certificate}`, `--ssl-key=${key}`]);
  closing.push(stop);
  return { url, certificate };
}

/** The address for a user who may do nothing yet. */
async function userOf(url: string): Promise<string> {
  await onMysql(url, "CREATE USER 'bridge'@'%' IDENTIFIED BY 'of-the-bridge'");
  return Object.assign(new URL(url), { username: "bridge", password: "of-the-bridge" }).href;
}

describe("the server", () => {
  it("needs to grant no more than is said", async () => {
    const own = await startOwn();
    closing.push(own.stop);
    const url = await userOf(own.url);
    const refused = { code: "WAREHOUSE_FAILED", hint: expect.any(String) };
    await expect(open(url)).rejects.toMatchObject(refused);
    for (const grant of grantsOf(url, warehouseNeeds("huts", undefined))
      .split("\n")
      .filter((line) => !line.startsWith("--")))
      await onMysql(own.url, grant);
    expect(await carry(url, [{ id: 1, kids: [{ n: 1 }] }])).toMatchObject({ added: 1 });
    expect(await carry(url, [{ id: 2, v: 1 }], {}, "replace")).toMatchObject({ added: 1, removed: 1 });
    const session = await open(url);
    await session.tryWriting("huts");
    await expect(session.tryWriting("elsewhere")).rejects.toMatchObject(refused);
    await session.close();
    // and for a table that stands
    await onMysql(own.url, "CREATE DATABASE crm");
    await onMysql(own.url, "CREATE TABLE crm.contacts (id BIGINT PRIMARY KEY, name TEXT)");
    const into = { schema: "crm", table: "contacts", columns: {} };
    const fill = async () => {
      const api = apiOf({}, () => ({ body: [{ id: 1, name: "A" }] }));
      return (await bridgeInto(theServer.warehouse(url), api, { streams: { s: { into } } })).run();
    };
    expect((await fill()).error!.message).toContain(
      "there is no table crm.contacts, or none that may be seen",
    );
    const needs = warehouseNeeds("huts", { s: { into } });
    expect(needs).toEqual({
      schema: undefined,
      userTables: [{ schema: "crm", table: "contacts", rights: ["SELECT", "INSERT", "UPDATE"] }],
    });
    await onMysql(own.url, grantsOf(url, needs).split("\n").at(-1)!);
    expect(await fill()).toMatchObject({ outcome: "done", streams: [{ added: 1 }] });
  });

  it.runIf(isMysql)("that wants a primary key of every table is told what a bridge needs", async () => {
    const own = await startOwn([
      "--sql-require-primary-key=ON",
      // as those are that others are kept in step with
      ...["--log-bin=log", "--server-id=1", "--gtid-mode=ON", "--enforce-gtid-consistency=ON"],
      "--disabled-storage-engines=MyISAM",
    ]);
    closing.push(own.stop);
    const url = await userOf(own.url);
    for (const grant of grantsOf(url, warehouseNeeds("huts", undefined)).split("\n").slice(1))
      await onMysql(own.url, grant);
    const refused = { code: "WAREHOUSE_FAILED", hint: expect.stringContaining("SESSION_VARIABLES_ADMIN") };
    await expect(open(url)).rejects.toMatchObject(refused);
    await onMysql(own.url, "GRANT SESSION_VARIABLES_ADMIN ON *.* TO 'bridge'@'%'");
    for (const v of [1, 2])
      expect(await carry(url, [{ id: 1, v, kids: [{ n: 1 }] }], {}, "versions")).toMatchObject({
        added: 2 - v,
        changed: v - 1,
      });
  });

  it("is spoken to over TLS where that is asked for, and must show whose it is", async () => {
    const [own, other] = [await certified("localhost"), await certified("db.huts.example")];
    const openOver = async ({ url, certificate }: typeof own, mode: string) => {
      const to = `${url.replace("127.0.0.1", "localhost")}?ssl-mode=${mode}`;
      const session = await open(`${to}${certificate === "" ? "" : `&ssl-ca=${certificate}`}`);
      const { way } = await session.about();
      await session.close();
      return way;
    };
    expect(await openOver(own, "verify_identity")).toMatch(/^TLSv1\.\d$/);
    const refused = { code: "WAREHOUSE_UNREACHABLE", hint: expect.stringContaining("ssl-ca") };
    await expect(openOver({ ...own, certificate: "" }, "required")).rejects.toMatchObject(refused);
    await expect(openOver(other, "required")).rejects.toMatchObject(refused);
    const byNumber = open(`${own.url}?ssl-mode=required`);
    await expect(byNumber).rejects.toMatchObject({ code: "URL_INVALID" });
  });

  it.each([
    ["is not there", { port: "1" }, "WAREHOUSE_UNREACHABLE", "Check host and port"],
    ["knows no such user", { username: "nobody" }, "WAREHOUSE_UNREACHABLE", "Check user and password"],
  ])("that %s is told of, without a password", async (_, change, code, hint) => {
    const url = Object.assign(new URL(SERVER), { password: "under-the-third-stone" }, change);
    const error = await open(url.href).then(undefined, (e: unknown) => e);
    expect(error).toMatchObject({ code, hint: expect.stringContaining(hint) });
    expect(JSON.stringify(error) + String(error)).not.toContain("under-the-third-stone");
    await expect(open("huts")).rejects.toMatchObject({ code: "URL_INVALID" });
  });
});

describe("a server of the other make", () => {
  it("is told by its name, and under which word it goes", async () => {
    const other = isMysql ? mariadb : mysql;
    await expect(other(SERVER).open()).rejects.toMatchObject({
      code: "WAREHOUSE_UNREACHABLE",
      message: expect.stringContaining(`The server is ${make.title} of version`),
      hint: expect.stringContaining(`under ${make.word}:`),
    });
  });

  it.each([
    ["10.5.9-MariaDB-1", false],
    ["10.6.0-MariaDB", true],
    ["11.4.2-MariaDB-log", true],
    ["8.0.18", false],
    ["8.0.19-cluster", true],
    ["8.4.0-azure", true],
    ["9.7.4-2", true],
    ["5.7.44", false],
  ])("is of version %s: recent enough? %s", (version, expected) => {
    expect(isRecent(version, makeOf(version))).toBe(expected);
  });
});

describe("the page of the docs", () => {
  const page = readFileSync(`docs/${theServer.key}.md`, "utf8");

  it("tells what to grant", () => {
    const [, sql] = /```sql\n([\s\S]*?)```/.exec(page)!;
    expect(
      grantsOf(`${make.word}://bridge@db.huts.example`, warehouseNeeds("bookings", undefined)),
    ).toContain(sql!.trim());
  });

  it.runIf(!isMysql)("tells the columns' types", () => {
    const rows = [...page.matchAll(/^\| `(\w+)(?:\(p,s\))?`\s*\| `([^`]*)`/gm)].map(([, kind, type]) => [
      kind,
      type,
    ]);
    const types = rows.map(([kind]) =>
      columnType({ kind, precision: 9, scale: 2 } as ColumnType, make).toLowerCase(),
    );
    expect(rows).toHaveLength(11);
    expect(rows.map(([, type]) => type!.replace("p,s", "9,2"))).toEqual(
      types.map((type) => type.replace(/ character set.*/, "")),
    );
  });

  it("has a project that is accepted", () => {
    const [, text] = /```yaml\n([\s\S]*?)```/.exec(page)!;
    const { value } = parseYaml(text!, "bridges.yaml");
    expect(projectSchema.parse(value).warehouses).toEqual({ team: { [make.word]: "$WAREHOUSE_URL" } });
  });
});
