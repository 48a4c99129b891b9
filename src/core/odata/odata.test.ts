import { readFileSync } from "node:fs";
import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { tries } from "../../../test/support/long.js";
import { changeOf, isRemoved, withKeys } from "./changes.js";
import { readCsdlJson } from "./csdl-json.js";
import { readCsdlXml } from "./csdl-xml.js";
import { columnRuleOf, leavesOf } from "./edm-type.js";
import { keyOfId } from "./entity-key.js";
import { literalOf, valueOfLiteral } from "./literal.js";
import { keyOf, type Model, type ODataVersion } from "./model.js";
import { COUNT, checkLateError, DELTA_LINK, ENTITIES, modernBody, NEXT_LINK } from "./payload.js";

const members = readCsdlXml(readFileSync("test/data/odata/members.v4.xml", "utf8"));
const stores = readCsdlXml(readFileSync("test/data/odata/stores.v2.xml", "utf8"));

/** The same service as the 4.01 JSON representation has it. */
const JSON_TEXT = JSON.stringify({
  $Version: "4.01",
  "Huts.Members": {
    $Alias: "Self",
    State: { $Kind: "EnumType", Active: 0, Left: 1 },
    Money: { $Kind: "TypeDefinition", $UnderlyingType: "Edm.Decimal", $Precision: 12, $Scale: 2 },
    Address: { $Kind: "ComplexType", Street: {}, Valley: { $MaxLength: 40 } },
    Phone: { $Kind: "ComplexType", Kind: {}, Number: {} },
    Person: { $Kind: "EntityType", $Abstract: true, $Key: ["ID"], ID: { $Type: "Edm.Int64" }, Name: {} },
    Member: {
      $Kind: "EntityType",
      $BaseType: "Self.Person",
      "@Org.OData.Core.V1.Description": "Somebody who may sleep in a hut",
      Joined: { $Type: "Edm.Date" },
      ChangedAt: { $Type: "Edm.DateTimeOffset", $Precision: 3 },
      Fee: { $Type: "Self.Money" },
      Balance: { $Type: "Edm.Decimal", $Scale: "variable" },
      Card: { $Type: "Edm.Guid" },
      Status: { $Type: "Self.State" },
      Home: { $Type: "Self.Address" },
      Phones: { $Collection: true, $Type: "Self.Phone" },
      Tags: { $Collection: true },
      Club: {
        $Kind: "NavigationProperty",
        $Type: "Self.Club",
        $ReferentialConstraint: { ClubCode: "Code" },
      },
      ClubCode: {},
    },
    Club: {
      $Kind: "EntityType",
      $Key: ["Code"],
      Code: {},
      Title: {},
      Members: { $Kind: "NavigationProperty", $Collection: true, $Type: "Self.Member" },
    },
    Container: {
      $Kind: "EntityContainer",
      Members: { $Collection: true, $Type: "Self.Member" },
      Clubs: { $Collection: true, $Type: "Self.Club" },
    },
    $Annotations: {
      "Self.Container/Clubs": {
        "@Org.OData.Capabilities.V1.FilterRestrictions": { NonFilterableProperties: ["Title"] },
      },
    },
  },
});

const columnsOf = (model: Model, type: string) =>
  Object.fromEntries(
    leavesOf(model, type).map(({ path, property }) => [path.join("."), columnRuleOf(property)]),
  );

describe("$metadata", () => {
  it.each([
    ["XML of 4.0", members, "4.0"],
    ["JSON of 4.01", readCsdlJson(JSON_TEXT), "4.01"],
  ])(
    "in %s gives sets, keys that are inherited, types with their facets, and what may not be done",
    (_form, model, version) => {
      expect(model.version).toBe(version);
      expect(model.sets.map(({ name, kind, type }) => [name, kind, type])).toEqual([
        ["Members", "set", "Huts.Members.Member"],
        ["Clubs", "set", "Huts.Members.Club"],
      ]);
      expect(keyOf(model, "Huts.Members.Member")).toEqual(["ID"]);
      const member = model.types.get("Huts.Members.Member")!;
      expect(member.description).toBe("Somebody who may sleep in a hut");
      expect(member.navigations).toEqual([
        {
          name: "Club",
          type: { name: "Huts.Members.Club", isCollection: false },
          isContained: false,
          constraints: [{ property: "ClubCode", referenced: "Code" }],
        },
      ]);
      expect([...model.sets[1]!.capabilities.unfilterable]).toEqual(["Title"]);
      expect(columnsOf(model, "Huts.Members.Member")).toEqual({
        ID: { type: { kind: "int64" } },
        Name: { type: { kind: "text" } },
        Joined: { type: { kind: "date" } },
        ChangedAt: { type: { kind: "timestamp" } },
        Fee: { type: { kind: "decimal", precision: 12, scale: 2 } },
        Balance: { digits: true },
        Card: { type: { kind: "uuid" } },
        Status: { type: { kind: "text" } },
        "Home.Street": { type: { kind: "text" } },
        "Home.Valley": { type: { kind: "text" } },
        "Phones.[*].Kind": { type: { kind: "text" } },
        "Phones.[*].Number": { type: { kind: "text" } },
        Tags: { type: { kind: "json" } },
        ClubCode: { type: { kind: "text" } },
      });
    },
  );

  it("of 2.0 gives composite keys, associations, and times without a zone", () => {
    expect(stores.version).toBe("2.0");
    expect(keyOf(stores, "Huts.Stores.Delivery")).toEqual(["Number", "Line"]);
    expect(stores.types.get("Huts.Stores.Delivery")?.navigations).toEqual([
      {
        name: "Item",
        type: { name: "Huts.Stores.Item", isCollection: false },
        isContained: false,
        constraints: [{ property: "ItemCode", referenced: "Code" }],
      },
    ]);
    expect(columnsOf(stores, "Huts.Stores.Delivery")).toMatchObject({
      ArrivedAt: { type: { kind: "local_timestamp" } },
      ChangedAt: { type: { kind: "timestamp" } },
      Opens: { type: { kind: "text" } },
      Kilos: { type: { kind: "decimal", precision: 13, scale: 3 } },
    });
  });

  it("may hold types that lead in a circle", () => {
    const model = readCsdlXml(`<Edmx Version="4.0"><DataServices><Schema Namespace="N">
      <ComplexType Name="Note"><Property Name="Text" Type="Edm.String"/><Property Name="Below" Type="N.Note"/></ComplexType>
      <EntityType Name="A" BaseType="N.B"><Property Name="Own" Type="N.Note"/></EntityType>
      <EntityType Name="B" BaseType="N.A"><Key><PropertyRef Name="Id"/></Key><Property Name="Id" Type="Edm.Int32"/></EntityType>
    </Schema></DataServices></Edmx>`);
    expect(Object.keys(columnsOf(model, "N.A"))).toEqual(["Id", "Own.Text"]);
  });

  it.each([
    ["<html><title>Sign in</title></html>", "describes no OData service"],
    ["<a><b></a>", "describes no OData service"],
    ["<Edmx Version='4.0'/>", "describes no OData service"],
  ])("that is none is told of: %s", (text, message) => {
    expect(() => readCsdlXml(text)).toThrow(message);
  });

  it("of thousands of types is read in seconds", { timeout: 60_000 }, () => {
    const many = tries(4000, 10_000);
    const types = Array.from(
      { length: many },
      (_, n) => `<EntityType Name="T${n}"><Key><PropertyRef Name="Id"/></Key>
        ${Array.from({ length: 12 }, (_, p) => `<Property Name="${p === 0 ? "Id" : `Property${p}`}" Type="Edm.String" MaxLength="40"/>`).join("")}</EntityType>`,
    );
    const sets = types.map((_, n) => `<EntitySet Name="S${n}" EntityType="N.T${n}"/>`);
    const text = `<Edmx Version="4.0"><DataServices><Schema Namespace="N">${types.join("")}
      <EntityContainer Name="C">${sets.join("")}</EntityContainer></Schema></DataServices></Edmx>`;
    const model = readCsdlXml(text);
    expect(model.sets).toHaveLength(many);
    expect(keyOf(model, `N.T${many - 1}`)).toEqual(["Id"]);
  });
});

describe("literals", () => {
  // OData 4.01 URL Conventions, section 5.1.1.14; OData 2.0, Abstract Type System, section 6
  it.each([
    ["Edm.String", "O'Hara", "4.0", "'O''Hara'"],
    ["Edm.DateTimeOffset", "2026-01-02T03:04:05Z", "4.0", "2026-01-02T03:04:05Z"],
    ["Edm.DateTimeOffset", "2026-01-02T03:04:05Z", "2.0", "datetimeoffset'2026-01-02T03:04:05Z'"],
    ["Edm.DateTime", "2026-01-02T03:04:05", "2.0", "datetime'2026-01-02T03:04:05'"],
    ["Edm.Guid", "0f8fad5b-d9cb-469f-a165-70867728950e", "2.0", "guid'0f8fad5b-d9cb-469f-a165-70867728950e'"],
    ["Edm.Guid", "0f8fad5b-d9cb-469f-a165-70867728950e", "4.01", "0f8fad5b-d9cb-469f-a165-70867728950e"],
    ["Edm.Int64", "9007199254740993", "2.0", "9007199254740993L"],
    ["Edm.Decimal", "12.50", "3.0", "12.50M"],
    ["Edm.Decimal", "12.50", "4.0", "12.50"],
    ["Edm.Duration", "P1DT2H", "4.0", "duration'P1DT2H'"],
    ["Edm.Time", "PT8H", "2.0", "time'PT8H'"],
    ["Edm.Binary", "AAH/", "2.0", "X'0001FF'"],
    ["Edm.Boolean", "true", "4.0", "true"],
  ] as const)("of %s: %s in %s is %s", (type, value, version, literal) => {
    expect(literalOf(type, value, version)).toBe(literal);
  });

  it("give the value back, whatever it is", () => {
    const versions = fc.constantFrom<ODataVersion>("2.0", "3.0", "4.0", "4.01");
    const digits = fc.bigInt({ min: -(2n ** 63n), max: 2n ** 63n - 1n }).map(String);
    const bytes = fc.uint8Array({ maxLength: 20 }).map((each) => btoa(String.fromCharCode(...each)));
    const typed = fc.oneof(
      fc.tuple(fc.constant("Edm.String"), fc.string({ unit: "grapheme" })),
      fc.tuple(fc.constantFrom("Edm.Int64", "Edm.Decimal", "Edm.Int32"), digits),
      fc.tuple(fc.constant("Edm.Guid"), fc.uuid()),
      fc.tuple(fc.constant("Edm.Binary"), bytes),
      fc.tuple(
        fc.constantFrom("Edm.DateTimeOffset", "Edm.Date"),
        fc.date({ noInvalidDate: true, min: new Date(0) }).map((date) => date.toISOString()),
      ),
      fc.tuple(
        fc.constant("Edm.Duration"),
        fc.nat().map((n) => `PT${n}S`),
      ),
    );
    fc.assert(
      fc.property(typed, versions, ([type, value], version) => {
        expect(valueOfLiteral(type, literalOf(type, value, version), version)).toBe(value);
      }),
    );
  });
});

describe("changes", () => {
  const one = [{ name: "ID", type: "Edm.Int64" }];
  const two = [
    { name: "Number", type: "Edm.String" },
    { name: "Line", type: "Edm.Int32" },
  ];

  // OData JSON Format 4.01, sections 15.2 to 15.4; 4.0, sections 14.2 and 14.3
  it("hold what is gone with its key", () => {
    const body = {
      value: [
        { ID: "1", Name: "Ana" },
        { "@removed": { reason: "deleted" }, "@id": "Members(2)" },
        {
          "@odata.context": "#Members/$deletedEntity",
          id: "https://huts.example/odata/Members(3)",
          reason: "deleted",
        },
        { "@removed": { reason: "changed" }, ID: "4" },
      ],
    };
    const { value } = withKeys(body, one, "4.0") as { value: Record<string, unknown>[] };
    expect(value.map((each) => [each.ID, isRemoved(each)])).toEqual([
      ["1", false],
      ["2", true],
      ["3", true],
      ["4", true],
    ]);
    const plain = { value: [{ ID: "1" }] };
    expect(withKeys(plain, one, "4.0")).toBe(plain);
  });

  // OData JSON Format 4.01, sections 15.1 to 15.5; 4.0, sections 14.1 to 14.4
  it.each<[string, object, object]>([
    ["an entity with all its members", { ID: "1", Name: "Ana", Club: null }, { is: "whole" }],
    ["one that lacks some", { ID: "1", Name: "Ana" }, { is: "again", key: { ID: "1", Name: "Ana" } }],
    [
      "one whose collection is told by its changes",
      { ID: "1", Name: "Ana", Club: null, "Stays@delta": [] },
      { is: "again" },
    ],
    ["one that is gone", { "@removed": { reason: "changed" }, ID: "4" }, { is: "gone" }],
    [
      "a link of what is expanded",
      {
        "@odata.context": "#Members/$link",
        source: "Members(1)",
        relationship: "Club",
        target: "Clubs('A')",
      },
      { is: "again", key: { ID: "1" } },
    ],
    [
      "a link that is gone",
      {
        "@context": "https://huts.example/odata/$metadata#Members/$deletedLink",
        source: "https://huts.example/odata/Members(1)",
        relationship: "Club",
        target: "Clubs('A')",
      },
      { is: "again", key: { ID: "1" } },
    ],
    [
      "a link of something else",
      { "@odata.context": "#Members/$link", source: "Members(1)", relationship: "Friends" },
      { is: "nothing" },
    ],
    [
      "an entity of another set",
      { "@odata.context": "#Clubs/$entity", Code: "A" },
      { is: "of another set", set: "Clubs" },
    ],
    [
      "one that says its own set",
      { "@context": "#Members/$entity", ID: "1", Name: "", Club: {} },
      { is: "whole" },
    ],
  ])("mean what they are: %s", (_what, entry, change) => {
    const members = ["ID", "Name", "Club"];
    const set = { name: "Members", key: one, members, expanded: ["Club"], version: "4.0" } as const;
    expect(changeOf(entry, set)).toMatchObject(change);
  });

  it.each([
    ["Members(9007199254740993)", one, { ID: "9007199254740993" }],
    ["https://huts.example/Members/7", one, { ID: "7" }],
    ["Deliveries(Number='A,1',Line=2)", two, { Number: "A,1", Line: "2" }],
    ["Deliveries(Number='O''Hara (x)',Line=2)", two, { Number: "O'Hara (x)", Line: "2" }],
    ["Deliveries(Line=2,Number='%C3%A4')", two, { Number: "ä", Line: "2" }],
    ["Deliveries(Line=2)", two, undefined],
    ["elsewhere", one, undefined],
  ])("read the key of %s", (id, key, values) => {
    expect(keyOfId(id, key, "4.0")).toEqual(values);
  });
});

describe("payloads", () => {
  it.each([
    ["4.0", { value: [1], "@odata.nextLink": "n", "@odata.count": 5 }, [1], "n", 5],
    ["4.01", { value: [1], "@nextLink": "n", "@count": 5 }, [1], "n", 5],
    ["3.0", { value: [1], "odata.nextLink": "n", "odata.count": "5" }, [1], "n", "5"],
    ["2.0", { d: { results: [1], __next: "n", __count: "5" } }, [1], "n", "5"],
    ["2.0 in its oldest form", { d: [1] }, [1], undefined, undefined],
    [
      "one entity",
      { "@odata.context": "x", Id: 1 },
      [{ "@odata.context": "x", Id: 1 }],
      undefined,
      undefined,
    ],
    ["one entity of 2.0", { d: { Id: 1 } }, [{ Id: 1 }], undefined, undefined],
    ["an empty last page", { value: [], "@odata.deltaLink": "d" }, [], undefined, undefined],
    ["an error", { error: { code: "1", message: "no" } }, undefined, undefined, undefined],
  ])("of %s hold entities, the next page and the count", (_what, body, entities, next, count) => {
    expect(ENTITIES.list(body)).toEqual(entities);
    expect(NEXT_LINK.first(body)).toBe(next);
    expect(COUNT.first(body)).toBe(count);
    expect(DELTA_LINK.first({ "@odata.deltaLink": "d" })).toBe("d");
  });

  it("that break off with an error are no end of a list", () => {
    const body = { value: [{ Id: 1 }], "@odata.error": { message: "the database went away" } };
    expect(() => checkLateError(body, {})).toThrow("in the middle of its entities: the database went away");
    expect(() => checkLateError({ value: [{ error: "a field of ours" }] }, {})).not.toThrow();
  });

  it("hold the times and collections of 2.0, which become those of today", () => {
    const record = {
      Local: "/Date(1767225600000)/",
      Offset: "/Date(1767225600500+0060)/",
      Instant: "/Date(1767225600000)/",
      Far: "/Date(99999999999999999)/",
      Inner: [{ Before: "/Date(-1000)/", text: "/Date(x)/" }],
      Guests: { results: [{ At: "/Date(0)/" }], __next: "Stays(1)/Guests?$skip=1" },
    };
    expect(modernBody({ d: record }, new Set(["Instant"]))).toEqual({
      d: {
        Local: "2026-01-01T00:00:00",
        Offset: "2026-01-01T00:00:00.500Z",
        Instant: "2026-01-01T00:00:00Z",
        Far: "/Date(99999999999999999)/",
        Inner: [{ Before: "1969-12-31T23:59:59", text: "/Date(x)/" }],
        Guests: [{ At: "1970-01-01T00:00:00" }],
        "Guests@odata.nextLink": "Stays(1)/Guests?$skip=1",
      },
    });
  });
});
