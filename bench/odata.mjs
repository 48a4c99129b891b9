// npm run bench:odata, and the last part of npm run bench: an OData set into DuckDB against JSON.parse of the same
// pages, and how long a large metadata document takes. Options by environment: BENCH_ENTITIES (default 200000).
import { fork } from "node:child_process";
import { mkdtempSync, rmSync } from "node:fs";
import { createServer } from "node:http";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { fileURLToPath } from "node:url";

const ENTITIES = Number(process.env.BENCH_ENTITIES ?? 200_000);
const PAGE = 1000;
const TYPES = 10_000;
const self = fileURLToPath(import.meta.url);

const SCHEMA = `<Edmx Version="4.0"><DataServices><Schema Namespace="N">
  <ComplexType Name="Night"><Property Name="Day" Type="Edm.Date"/><Property Name="Price" Type="Edm.Decimal" Precision="9" Scale="2"/></ComplexType>
  <EntityType Name="Stay"><Key><PropertyRef Name="Id"/></Key><Property Name="Id" Type="Edm.Int64"/>
    <Property Name="Guest" Type="Edm.String"/><Property Name="Hut" Type="Edm.Guid"/><Property Name="Paid" Type="Edm.Decimal" Precision="18" Scale="2"/>
    <Property Name="ChangedAt" Type="Edm.DateTimeOffset"/><Property Name="Nights" Type="Collection(N.Night)"/></EntityType>
  <EntityContainer Name="C"><EntitySet Name="Stays" EntityType="N.Stay"/></EntityContainer></Schema></DataServices></Edmx>`;

/** The same as a service of 2.0 describes it, which has no collections of values. */
const OLD_SCHEMA = `<Edmx Version="1.0"><DataServices DataServiceVersion="2.0"><Schema Namespace="N">
  <EntityType Name="Stay"><Key><PropertyRef Name="Id"/></Key><Property Name="Id" Type="Edm.Int64"/>
    <Property Name="Guest" Type="Edm.String"/><Property Name="Hut" Type="Edm.Guid"/><Property Name="Paid" Type="Edm.Decimal" Precision="18" Scale="2"/>
    <Property Name="ChangedAt" Type="Edm.DateTime"/></EntityType>
  <EntityContainer Name="C"><EntitySet Name="Stays" EntityType="N.Stay"/></EntityContainer></Schema></DataServices></Edmx>`;

/** Pages as a service of 2.0 gives them: slashes escaped, times as numbers in texts. */
function oldPages() {
  return pages().map((page) => {
    const { value, "@odata.nextLink": next } = JSON.parse(page);
    const results = value.map(({ "@odata.etag": etag, Nights: _, ChangedAt, ...own }) => ({
      __metadata: { uri: `Stays(${own.Id}L)`, type: "N.Stay", etag },
      ...own,
      ChangedAt: `/Date(${Date.parse(ChangedAt)})/`,
    }));
    const body = {
      d: { results, __count: String(ENTITIES), ...(next === undefined ? {} : { __next: next }) },
    };
    return Buffer.from(JSON.stringify(body).replaceAll("/", "\\/"));
  });
}

/** Pages as a service gives them: long numbers and decimals as text. */
function pages() {
  return Array.from({ length: Math.ceil(ENTITIES / PAGE) }, (_, page) => {
    const value = Array.from({ length: Math.min(PAGE, ENTITIES - page * PAGE) }, (_, n) => {
      const id = page * PAGE + n;
      return {
        "@odata.etag": `W/"${id}"`,
        Id: String(9_000_000_000 + id),
        Guest: `Guest ${id % 977} of "Upper Hut"`,
        Hut: `0f8fad5b-d9cb-469f-a165-${String(id).padStart(12, "0")}`,
        Paid: `${id % 900}.50`,
        ChangedAt: new Date(Date.UTC(2026, 0, 1) + id * 1000).toISOString(),
        Nights: Array.from({ length: id % 3 }, (_, i) => ({
          Day: `2026-02-0${i + 1}`,
          Price: `${id % 90}.50`,
        })),
      };
    });
    const next = (page + 1) * PAGE < ENTITIES ? { "@odata.nextLink": `Stays?$skiptoken=${page + 1}` } : {};
    return Buffer.from(
      JSON.stringify({ "@odata.context": "$metadata#Stays", "@odata.count": ENTITIES, value, ...next }),
    );
  });
}

function serve() {
  const all = pages();
  const old = oldPages();
  const server = createServer((request, response) => {
    const url = new URL(request.url, "http://huts.example");
    const isOld = url.pathname.startsWith("/old");
    const page = url.pathname.endsWith("$metadata")
      ? isOld
        ? OLD_SCHEMA
        : SCHEMA
      : (isOld ? old : all)[Number(url.searchParams.get("$skiptoken") ?? 0)];
    response.end(page);
  });
  const bytes = all.reduce((sum, { length }) => sum + length, 0);
  server.listen(0, "127.0.0.1", () =>
    process.send({ url: `http://127.0.0.1:${server.address().port}`, bytes }),
  );
  process.on("disconnect", () => process.exit(0));
}

const WORK = {
  async ours({ url, database, stays }) {
    const { connect, defineConnector, openBridge } = await import("../dist/index.js");
    const { duckdb } = await import("../dist/warehouse/duckdb/index.js");
    const streams = stays && { stays: { set: "Stays", ...stays } };
    const connector = defineConnector({ connector: "stays", api: { url }, odata: {}, streams });
    const api = connect(connector, {});
    const from = performance.now();
    const report = await (await openBridge({ from: api, to: duckdb(database) })).run();
    await api.close();
    if (report.outcome !== "done") throw report.error;
    const rows = Object.values(report.streams[0].rowsByTable).reduce((sum, each) => sum + each, 0);
    return { seconds: (performance.now() - from) / 1000, rows };
  },
  async parse() {
    const all = pages();
    const from = performance.now();
    let rows = 0;
    for (const page of all)
      for (const { Nights } of JSON.parse(page.toString("utf8")).value) rows += 1 + Nights.length;
    return { seconds: (performance.now() - from) / 1000, rows };
  },
  async metadata({ place }) {
    const { readCsdlXml } = await import("../dist/core/index.js");
    const property = (p) =>
      `<Property Name="Property${p}" Type="Edm.String" Nullable="true" MaxLength="${p + 40}"><Annotation Term="Org.OData.Core.V1.Description" String="What the field ${p} of the thing holds"/></Property>`;
    const type = (n) =>
      `<EntityType Name="Type${n}"><Key><PropertyRef Name="Property0"/></Key>${Array.from({ length: 12 }, (_, p) => property(p)).join("")}</EntityType>`;
    const types = Array.from({ length: TYPES }, (_, n) => type(n)).join("\n");
    const sets = Array.from(
      { length: TYPES },
      (_, n) => `<EntitySet Name="Set${n}" EntityType="N.Type${n}"/>`,
    ).join("\n");
    const text = `<Edmx Version="4.0"><DataServices><Schema Namespace="N">${types}<EntityContainer Name="C">${sets}</EntityContainer></Schema></DataServices></Edmx>`;
    const from = performance.now();
    const model = readCsdlXml(text);
    const seconds = (performance.now() - from) / 1000;
    const { fileKeep } = await import("../dist/node/file-keep.js");
    await fileKeep(place).write("metadata", model);
    return { seconds, rows: model.types.size, bytes: text.length };
  },
  async kept({ place }) {
    const { fileKeep } = await import("../dist/node/file-keep.js");
    const from = performance.now();
    const { types } = await fileKeep(place).read("metadata");
    return { seconds: (performance.now() - from) / 1000, rows: types.size };
  },
};

async function runOnce(name, options) {
  const child = fork(self, [name, JSON.stringify(options)]);
  return new Promise((resolve, reject) => {
    child.once("message", resolve);
    child.once("exit", (code) => reject(new Error(`${name} ended with ${code}`)));
  });
}

export async function measureOData() {
  const server = fork(self, ["serve"]);
  const { url, bytes } = await new Promise((resolve) => server.once("message", resolve));
  const place = mkdtempSync(join(tmpdir(), "early-bridge-bench-odata-"));
  try {
    console.log(
      `\nAn OData set of ${ENTITIES.toLocaleString("en-US")} entities, ${(bytes / 1e6).toFixed(1)} MB.\n`,
    );
    const ours = await runOnce("ours", { url: `${url}/odata`, database: join(place, "bench.duckdb") });
    const stays = { where: "record.Guest != 'Guest 1 of \"Upper Hut\"'" };
    const some = await runOnce("ours", { url: `${url}/odata`, database: join(place, "some.duckdb"), stays });
    const old = await runOnce("ours", { url: `${url}/old`, database: join(place, "old.duckdb") });
    const parse = await runOnce("parse", {});
    const metadata = await runOnce("metadata", { place });
    const kept = await runOnce("kept", { place });
    if (kept.rows !== metadata.rows) throw new Error(`${kept.rows} types, not ${metadata.rows}`);
    if (old.rows !== ENTITIES) throw new Error(`${old.rows} rows of 2.0, not ${ENTITIES}`);
    if (some.rows >= ours.rows) throw new Error(`${some.rows} rows with where, of ${ours.rows}`);
    if (ours.rows !== parse.rows) throw new Error(`${ours.rows} rows, not ${parse.rows}`);
    console.log("| OData | s | rows/s | time, ours = 1 | peak memory |\n| --- | ---: | ---: | ---: | ---: |");
    for (const [title, each] of [
      ["early-bridge: HTTP to tables", ours],
      ["the same with where", some],
      ["the same as 2.0 gives it, without collections", old],
      ["JSON.parse alone, from memory", parse],
    ]) {
      const rate = Math.round(each.rows / each.seconds).toLocaleString("en-US");
      const ratio = (each.seconds / ours.seconds).toFixed(2);
      console.log(
        `| ${title} | ${each.seconds.toFixed(2)} | ${rate} | ${ratio} | ${Math.round(each.peakMb)} MB |`,
      );
    }
    const { rows, seconds, peakMb, bytes: size } = metadata;
    console.log(
      `\nMetadata of ${rows.toLocaleString("en-US")} types, ${(size / 1e6).toFixed(1)} MB: ${seconds.toFixed(2)} s, peak memory ${Math.round(peakMb)} MB; kept from an earlier run: ${kept.seconds.toFixed(2)} s.`,
    );
  } finally {
    server.disconnect();
    rmSync(place, { recursive: true, force: true });
  }
}

const [, , role, options] = process.argv;
if (role === "serve") serve();
else if (role in WORK) {
  const result = await WORK[role](JSON.parse(options));
  process.send({ ...result, peakMb: process.resourceUsage().maxRSS / 1024 });
  process.disconnect();
} else if (process.argv[1] === self) await measureOData();
