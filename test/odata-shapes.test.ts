/** What OData services may hold beside plain sets, and how each of it arrives. */

import { describe, expect, it } from "vitest";
import { planBridge } from "../src/index.js";
import { bridgeInto } from "./support/carried.js";
import { allRecords, failure, fixedService, HUT, HUTS, openOData, schemaOf } from "./support/odata.js";
import { temporaryFolder } from "./support/project.js";
import { serve } from "./support/serve.js";
import { queryFile } from "./support/truth.js";

describe("collections that are expanded", () => {
  const beds = (...numbers: number[]) => numbers.map((No) => ({ No }));
  const bedsIn = async (path: string) =>
    (
      await queryFile(
        path,
        "SELECT huts_id::INTEGER AS id, no::INTEGER AS no FROM huts_beds ORDER BY 1, eb_position",
      )
    ).map(({ id, no }) => [id, no]);
  const streams = { huts: { set: "Huts", query: { $expand: "Beds" } } };

  it("are read to their ends, wherever the service cuts them", async () => {
    const { url, log } = await fixedService(schemaOf(HUT, HUTS), {
      "/Huts": {
        value: [
          { Id: 1, Title: "A", Beds: beds(1, 2), "Beds@odata.nextLink": "Huts(1)/Beds?$skip=2" },
          { Id: 2, Title: "B", Beds: beds(9) },
        ],
      },
      "/Huts(1)/Beds?$skip=2": { value: beds(3, 4), "@odata.nextLink": "Huts(1)/Beds?$skip=4" },
      "/Huts(1)/Beds?$skip=4": { value: beds(5) },
    });
    const path = `${temporaryFolder()}/beds.duckdb`;
    const report = await (await bridgeInto(path, openOData(url, { streams }))).run();
    expect(report.error?.message).toBeUndefined();
    expect(await bedsIn(path)).toEqual([
      [1, 1],
      [1, 2],
      [1, 3],
      [1, 4],
      [1, 5],
      [2, 9],
    ]);
    expect(log[1]).toContain("$expand=Beds");
  });

  it("are read so in 2.0 as well", async () => {
    const metadata = schemaOf(HUT.replace('Type="Collection(N.Bed)"', ""), HUTS, "1.0");
    const { url, log } = await fixedService(metadata, {
      "/Huts": {
        d: { results: [{ Id: 1, Beds: { results: beds(1), __next: "Huts(1)/Beds?$skiptoken=1" } }] },
      },
      "/Huts(1)/Beds?$skiptoken=1": { d: { results: beds(2) } },
    });
    const path = `${temporaryFolder()}/beds.duckdb`;
    await (await bridgeInto(path, openOData(url, { streams }))).run();
    expect(await bedsIn(path)).toEqual([
      [1, 1],
      [1, 2],
    ]);
    // what is expanded must be selected there
    expect(log[1]).toContain("$select=Id,Title,Beds&");
  });

  it("have columns of their own types, before the first row, as deep as they are nested", async () => {
    const inner = `<EntityType Name="Hut"><Key><PropertyRef Name="Id"/></Key><Property Name="Id" Type="Edm.Int32"/>
        <NavigationProperty Name="Beds" Type="Collection(N.Bed)"/><NavigationProperty Name="Keeper" Type="N.Person"/></EntityType>
      <EntityType Name="Bed"><Key><PropertyRef Name="No"/></Key><Property Name="No" Type="Edm.Int64"/>
        <Property Name="Price" Type="Edm.Decimal" Precision="9" Scale="2"/><Property Name="Note" Type="Edm.String"/>
        <NavigationProperty Name="Guest" Type="N.Person"/></EntityType>
      <EntityType Name="Person"><Key><PropertyRef Name="Id"/></Key><Property Name="Id" Type="Edm.Int64"/>
        <Property Name="Born" Type="Edm.Date"/></EntityType>`;
    const { url } = await fixedService(schemaOf(inner, HUTS), { "/Huts": { value: [] } });
    const $expand = "Beds($select=No,Price;$filter=Note ne 'a;b,c)';$expand=Guest),Keeper";
    const path = `${temporaryFolder()}/typed.duckdb`;
    const expanded = { huts: { set: "Huts", query: { $expand } } };
    await (await bridgeInto(path, openOData(url, { streams: expanded }))).run();
    const columns = await queryFile(
      path,
      `SELECT table_name || '.' || column_name || ' ' || data_type AS c FROM information_schema.columns
       WHERE table_schema = 'main' AND column_name NOT LIKE 'eb_%' ORDER BY table_name, ordinal_position`,
    );
    expect(columns.map(({ c }) => c)).toEqual([
      "huts.id BIGINT",
      "huts.keeper_id BIGINT",
      "huts.keeper_born DATE",
      "huts_beds.huts_id BIGINT",
      "huts_beds.no BIGINT",
      "huts_beds.price DECIMAL(9,2)",
      "huts_beds.guest_id BIGINT",
      "huts_beds.guest_born DATE",
    ]);
    const slip = (stream: object) =>
      failure(allRecords(openOData(url, { streams: { s: { set: "Huts", ...stream } } }), "s"));
    expect(await slip({ query: { $expand: "Bed" } })).toMatchObject({
      code: "CONFIG_UNKNOWN_NAME",
      message: "$expand names Bed, and nothing leads there.",
      hint: expect.stringContaining("Beds"),
    });
    expect(await slip({ columns: { Ide: { drop: true } } })).toMatchObject({
      message: "columns names Ide, which is no property of the set.",
      hint: expect.stringContaining("Id"),
    });
  });

  it("whose rest leads in a circle end with words", async () => {
    const { url } = await fixedService(schemaOf(HUT, HUTS), {
      "/Huts": { value: [{ Id: 1, Beds: [], "Beds@odata.nextLink": "Huts(1)/Beds?$skip=2" }] },
      "/Huts(1)/Beds?$skip=2": { value: beds(3), "@odata.nextLink": "Huts(1)/Beds?$skip=2" },
    });
    expect(await failure(allRecords(openOData(url, { streams }), "huts"))).toMatchObject({
      code: "PAGE_REPEATED",
    });
  });
});

describe("what else a service may have", () => {
  it("singletons, functions and open types are read as what they are", async () => {
    const inner = `<EntityType Name="Info"><Property Name="Name" Type="Edm.String"/></EntityType>
      <EntityType Name="Thing" OpenType="true"><Key><PropertyRef Name="Id"/></Key><Property Name="Id" Type="Edm.Int32"/></EntityType>
      <Function Name="Newest"><ReturnType Type="Collection(N.Thing)"/></Function>`;
    const container = `<Singleton Name="Me" Type="N.Info"/><EntitySet Name="Things" EntityType="N.Thing"/>
      <FunctionImport Name="Newest" Function="N.Newest" EntitySet="Things"/>`;
    const { url, log } = await fixedService(schemaOf(inner, container), {
      "/Me": { "@odata.context": "c", Name: "Federation" },
      "/Things": { value: [{ Id: 1, "@odata.etag": "w", Colour: "red" }] },
      "/Newest()": { value: [{ Id: 2 }] },
    });
    const streams = { me: { set: "Me" }, things: { set: "Things" }, newest: { set: "Newest" } };
    const path = `${temporaryFolder()}/else.duckdb`;
    const report = await (await bridgeInto(path, openOData(url, { streams }))).run();
    expect(report).toMatchObject({ outcome: "done" });
    expect(await queryFile(path, "SELECT name FROM me")).toEqual([{ name: "Federation" }]);
    expect(await queryFile(path, "SELECT * EXCLUDE (eb_run, eb_loaded_at) FROM things")).toEqual([
      { id: "1", colour: "red" },
    ]);
    expect(await queryFile(path, "SELECT id FROM newest")).toEqual([{ id: "2" }]);
    // what an open type holds beyond its properties is asked for as well
    expect(log).toContain("/odata/Things?$count=true");
  });

  it("entities of derived types keep what is theirs", async () => {
    const inner = `<EntityType Name="Hut"><Key><PropertyRef Name="Id"/></Key><Property Name="Id" Type="Edm.Int32"/></EntityType>
      <EntityType Name="Cave" BaseType="N.Hut"><Property Name="Depth" Type="Edm.Decimal" Precision="9" Scale="1"/></EntityType>`;
    const { url } = await fixedService(schemaOf(inner, HUTS), {
      "/Huts": { value: [{ Id: 1 }, { "@odata.type": "#N.Cave", Id: 2, Depth: "12.5" }] },
    });
    const path = `${temporaryFolder()}/derived.duckdb`;
    await (await bridgeInto(path, openOData(url))).run();
    expect(await queryFile(path, "SELECT id, depth::VARCHAR AS depth FROM huts ORDER BY id")).toEqual([
      { id: "1", depth: null },
      { id: "2", depth: "12.5" },
    ]);
  });

  it("a service without next links is read by $skip and $top", async () => {
    const page = (...ids: number[]) => ({ value: ids.map((Id) => ({ Id, Title: "t" })) });
    const { url } = await fixedService(schemaOf(HUT, HUTS), {
      "/Huts?$top=2&$skip=0": page(1, 2),
      "/Huts?$top=2&$skip=2": page(3, 4),
      "/Huts?$top=2&$skip=4": page(5),
      "/Huts?$top=2&$skip=5": page(),
    });
    const pages = { offset: 0, query: "$skip", size: { query: "$top", records: 2 } };
    expect(
      await allRecords(openOData(url, { streams: { huts: { set: "Huts", pages } } } as never), "huts"),
    ).toHaveLength(5);
    // the plan believes what the service says of itself
    const skips = '<Annotation Term="Org.OData.Capabilities.V1.SkipSupported" Bool="false"/>';
    const unpaged = await fixedService(schemaOf(HUT, HUTS.replace("/>", `>${skips}</EntitySet>`)), {});
    const api = openOData(unpaged.url, { streams: { huts: { set: "Huts", pages } } } as never);
    const bridge = await bridgeInto(`${temporaryFolder()}/plan.duckdb`, api);
    const [plan] = await planBridge(bridge, api);
    expect(plan?.warnings).toContain(
      "The service says that Huts takes no $skip and $top: leave pages out, and its next links are followed.",
    );
  });

  it("values in a filter keep their quotes, also beside the cursor's", async () => {
    const metadata = schemaOf(
      HUT.replace(
        "<NavigationProperty",
        '<Property Name="At" Type="Edm.DateTimeOffset"/><NavigationProperty',
      ),
      HUTS,
    );
    const hut = (Id: number) => ({ value: [{ Id, Title: "O'Hara", At: "2026-01-01T00:00:00Z" }] });
    const { url, log } = await fixedService(metadata, {
      "/Huts?$filter=Title eq 'O''Hara'&$orderby=At,Id": hut(1),
      "/Huts?$orderby=At,Id&$filter=Title eq 'O''Hara'": hut(1),
      "/Huts?$orderby=At,Id&$filter=Title eq 'O''Hara' and At ge 2026-01-01T00:00:00Z": hut(1),
    });
    const huts = {
      set: "Huts",
      each: { title: ["O'Hara"] },
      query: { $filter: "Title eq '{title}'" },
      cursor: { field: "At", overlap: "PT0S" },
    };
    const bridge = await bridgeInto(
      `${temporaryFolder()}/quotes.duckdb`,
      openOData(url, { streams: { huts } }),
    );
    expect((await bridge.run()).error?.message).toBeUndefined();
    expect((await bridge.run()).streams[0]).toMatchObject({ outcome: "done", unchanged: 1 });
    expect(log.at(-1)).toContain("Title eq 'O''Hara' and At ge 2026-01-01T00:00:00Z");
  });

  it("its own options and the reader's language are passed on, and a search is one of them", async () => {
    let asked: { path: string; language: string | undefined } | undefined;
    const origin = await serve((request, response) => {
      const path = decodeURIComponent(request.url ?? "");
      if (path.endsWith("/$metadata")) return response.end(schemaOf(HUT, HUTS));
      asked = { path, language: request.headers["accept-language"] };
      return response.end('{"value":[{"Id":1,"Title":"Kahla koča"}]}');
    });
    const query = { $search: '"hut" AND NOT winter', season: "summer" };
    const huts = { set: "Huts", query, headers: { "Accept-Language": "sl" } };
    const api = openOData(`${origin}/odata`, { streams: { huts } });
    expect(await allRecords(api, "huts")).toEqual([{ Id: 1, Title: "Kahla koča" }]);
    expect(asked?.language).toBe("sl");
    expect(asked?.path).toContain('&$search="hut" AND NOT winter&season=summer');
  });

  it("a set that refuses stops no other", async () => {
    const { url } = await fixedService(schemaOf(HUT, `${HUTS}<EntitySet Name="Beds" EntityType="N.Bed"/>`), {
      "/Beds": { value: [{ No: 1 }] },
    });
    const report = await (await bridgeInto(`${temporaryFolder()}/two.duckdb`, openOData(url))).run();
    expect(report.streams.map(({ stream, outcome, error }) => [stream, outcome, error?.code])).toEqual([
      ["huts", "failed", "NOT_FOUND"],
      ["beds", "done", undefined],
    ]);
  });
});

describe("what a service says of its values", () => {
  // OData JSON Format 4.01, section 7.1: the standard's own example, then as IEEE754Compatible=true has it
  it.each([
    ["as they are", { DecimalValue: 34.95, Int64Value: 0 }],
    ["as texts", { DecimalValue: "34.95", Int64Value: "0" }],
  ])("is kept exactly, of every primitive type, numbers %s", async (_how, numbers) => {
    const values = {
      NullValue: null,
      TrueValue: true,
      BinaryValue: "T0RhdGE",
      IntegerValue: -128,
      DoubleValue: Math.PI,
      SingleValue: "INF",
      StringValue: 'Say "Hello",\nthen go',
      DateValue: "2012-12-03",
      DateTimeOffsetValue: "2012-12-03T07:16:23Z",
      DurationValue: "P12DT23H59M59.999999999999S",
      TimeOfDayValue: "07:59:59.999",
      GuidValue: "01234567-89ab-cdef-0123-456789abcdef",
      ColorEnumValue: "Yellow",
      GeographyPoint: { type: "Point", coordinates: [142.1, 64.1] },
      ...numbers,
    };
    const types: Record<string, string> = {
      Integer: "SByte",
      Null: "Int32",
      True: "Boolean",
      ColorEnum: "N.Color",
    };
    const typeOf = (name: string) => {
      const kind = name.replace(/Value$/, "");
      return (types[kind] ?? kind).replace(/^(?!N\.)/, "Edm.");
    };
    const facets = { DecimalValue: 'Precision="9" Scale="2"' } as Record<string, string>;
    const properties = Object.keys(values).map(
      (name) => `<Property Name="${name}" Type="${typeOf(name)}" ${facets[name] ?? ""}/>`,
    );
    const inner = `<EnumType Name="Color"/><EntityType Name="Hut">${properties.join("")}</EntityType>`;
    const { url } = await fixedService(schemaOf(inner, HUTS), { "/Huts": { value: [values] } });
    const path = `${temporaryFolder()}/primitives.duckdb`;
    const report = await (await bridgeInto(path, openOData(url))).run();
    expect(report.streams[0]).toMatchObject({ outcome: "done", added: 1, quarantined: 0 });
    const [row] = await queryFile(path, "SELECT * EXCLUDE (eb_run, eb_loaded_at, eb_row_id) FROM huts");
    const asText = await queryFile(
      path,
      "SELECT binary_value::VARCHAR AS b, decimal_value::VARCHAR AS d, date_value::VARCHAR AS day, guid_value::VARCHAR AS g, single_value::VARCHAR AS s, epoch_ms(date_time_offset_value)::VARCHAR AS at FROM huts",
    );
    expect(asText).toEqual([
      {
        b: "OData",
        d: "34.95",
        day: "2012-12-03",
        g: values.GuidValue,
        s: "inf",
        at: String(Date.UTC(2012, 11, 3, 7, 16, 23)),
      },
    ]);
    expect(row).toMatchObject({
      null_value: null,
      true_value: true,
      integer_value: "-128",
      int64_value: "0",
      double_value: Math.PI,
      string_value: values.StringValue,
      duration_value: values.DurationValue,
      time_of_day_value: values.TimeOfDayValue,
      color_enum_value: "Yellow",
    });
  });

  it("streams become their addresses, descriptions and units comments", async () => {
    const inner = `<EntityType Name="Hut"><Key><PropertyRef Name="Id"/></Key><Property Name="Id" Type="Edm.String"/>
      <Property Name="Plan" Type="Edm.Stream"/><Property Name="Photo" Type="Edm.Stream"/>
      <Property Name="Height" Type="Edm.Int32"><Annotation Term="Org.OData.Core.V1.Description" String="Above the sea"/>
        <Annotation Term="Org.OData.Measures.V1.Unit" String="m"/></Property>
      <Annotation Term="Org.OData.Core.V1.Description" String="Where people's nights are"/></EntityType>`;
    const { url, log } = await fixedService(schemaOf(inner, HUTS), {
      "/Huts": { value: [{ Id: "A b", Height: 1900, "Photo@odata.mediaReadLink": "/media/7" }] },
    });
    const path = `${temporaryFolder()}/said.duckdb`;
    const report = await (await bridgeInto(path, openOData(url))).run();
    expect(report.error?.message).toBeUndefined();
    expect(await queryFile(path, "SELECT plan, photo FROM huts")).toEqual([
      { plan: `${url}/Huts('A%20b')/Plan`, photo: `${new URL(url).origin}/media/7` },
    ]);
    expect(log.at(-1)).toContain("$select=Id,Plan,Photo,Height&");
    const comments =
      "SELECT comment AS c FROM duckdb_columns() WHERE comment IS NOT NULL UNION ALL SELECT comment FROM duckdb_tables() WHERE comment IS NOT NULL";
    expect((await queryFile(path, comments)).map(({ c }) => c)).toEqual([
      "Above the sea; unit: m",
      "Where people's nights are",
    ]);
  });

  it("keep their comments where the table is replaced", async () => {
    const inner = `<EntityType Name="Hut"><Property Name="Title" Type="Edm.String">
      <Annotation Term="Org.OData.Core.V1.Description" String="What it is called"/></Property></EntityType>`;
    const { url } = await fixedService(schemaOf(inner, HUTS), { "/Huts": { value: [{ Title: "A" }] } });
    const path = `${temporaryFolder()}/replaced.duckdb`;
    const columns = { Title: { description: "Its name" } };
    const bridge = await bridgeInto(path, openOData(url, { streams: { huts: { set: "Huts", columns } } }));
    await bridge.run();
    expect((await bridge.run()).outcome).toBe("done");
    const comments = "SELECT comment AS c FROM duckdb_columns() WHERE comment IS NOT NULL";
    expect(await queryFile(path, comments)).toEqual([{ c: "Its name" }]);
  });

  it("entities that the service itself calls faulty go to quarantine, whole", async () => {
    const { url } = await fixedService(schemaOf(HUT, HUTS), {
      "/Huts": {
        value: [
          { Id: 1, Title: "A" },
          { Id: 2, Title: null, "Title@Core.ValueException": { info: { message: "cannot be computed" } } },
          { Id: 3, "@Org.OData.Core.V1.ResourceException": {} },
        ],
      },
    });
    const path = `${temporaryFolder()}/faulty.duckdb`;
    const report = await (await bridgeInto(path, openOData(url))).run();
    expect(report.streams[0]).toMatchObject({ outcome: "done", added: 1, quarantined: 2 });
    expect(
      await queryFile(path, "SELECT reason, message FROM early_bridge.quarantine ORDER BY message"),
    ).toEqual([
      {
        reason: "told_faulty",
        message: "the service says that Title is not as it should be (ValueException): cannot be computed",
      },
      {
        reason: "told_faulty",
        message: "the service says that the entity is not as it should be (ResourceException)",
      },
    ]);
  });
});
