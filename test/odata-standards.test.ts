/** The examples of the OData standards, as their texts have them: the sections are named beside each. */

import { describe, expect, it } from "vitest";
import { changeOf, withKeys } from "../src/core/odata/changes.js";
import { readCsdlJson } from "../src/core/odata/csdl-json.js";
import { readCsdlXml } from "../src/core/odata/csdl-xml.js";
import { columnRuleOf, leavesOf } from "../src/core/odata/edm-type.js";
import { keyOfId, keyPredicate } from "../src/core/odata/entity-key.js";
import { parseExpand } from "../src/core/odata/expand-option.js";
import { literalOf, valueOfLiteral } from "../src/core/odata/literal.js";
import { keyAliasOf, type Model } from "../src/core/odata/model.js";
import {
  COUNT,
  checkLateError,
  DELTA_LINK,
  ENTITIES,
  modernBody,
  NEXT_LINK,
} from "../src/core/odata/payload.js";

/** OData CSDL XML 4.01, section 16.1. */
const PRODUCTS_XML = `<edmx:Edmx xmlns:edmx="http://docs.oasis-open.org/odata/ns/edmx" Version="4.01"
    xmlns="http://docs.oasis-open.org/odata/ns/edm">
  <edmx:Reference Uri="Org.OData.Core.V1.xml">
    <edmx:Include Namespace="Org.OData.Core.V1" Alias="Core"><Annotation Term="Core.DefaultNamespace"/></edmx:Include>
  </edmx:Reference>
  <edmx:Reference Uri="Org.OData.Measures.V1.xml">
    <edmx:Include Alias="Measures" Namespace="Org.OData.Measures.V1"/>
  </edmx:Reference>
  <edmx:DataServices>
    <Schema Namespace="ODataDemo" Alias="self">
      <EntityType Name="Product" HasStream="true">
        <Key><PropertyRef Name="ID"/></Key>
        <Property Name="ID" Nullable="false"/>
        <Property Name="Description" Type="Edm.String"><Annotation Term="Core.IsLanguageDependent"/></Property>
        <Property Name="ReleaseDate" Type="Edm.Date"/>
        <Property Name="DiscontinuedDate" Type="Edm.Date"/>
        <Property Name="Rating" Type="Edm.Int32"/>
        <Property Name="Price" Type="Edm.Decimal" Scale="variable">
          <Annotation Term="Measures.ISOCurrency" Path="Currency"/>
        </Property>
        <Property Name="Currency" Type="Edm.String" MaxLength="3"/>
        <NavigationProperty Name="Category" Type="self.Category" Nullable="false" Partner="Products"/>
        <NavigationProperty Name="Supplier" Type="self.Supplier" Partner="Products"/>
      </EntityType>
      <EntityType Name="Category">
        <Key><PropertyRef Name="ID"/></Key>
        <Property Name="ID" Type="Edm.Int32" Nullable="false"/>
        <Property Name="Name" Type="Edm.String" Nullable="false"><Annotation Term="Core.IsLanguageDependent"/></Property>
        <NavigationProperty Name="Products" Partner="Category" Type="Collection(self.Product)">
          <OnDelete Action="Cascade"/>
        </NavigationProperty>
      </EntityType>
      <EntityType Name="Supplier">
        <Key><PropertyRef Name="ID"/></Key>
        <Property Name="ID" Type="Edm.String" Nullable="false"/>
        <Property Name="Name" Type="Edm.String"/>
        <Property Name="Address" Type="self.Address" Nullable="false"/>
        <Property Name="Concurrency" Type="Edm.Int32" Nullable="false"/>
        <NavigationProperty Name="Products" Partner="Supplier" Type="Collection(self.Product)"/>
      </EntityType>
      <EntityType Name="Country">
        <Key><PropertyRef Name="Code"/></Key>
        <Property Name="Code" Type="Edm.String" MaxLength="2" Nullable="false"/>
        <Property Name="Name" Type="Edm.String"/>
      </EntityType>
      <ComplexType Name="Address">
        <Property Name="Street" Type="Edm.String"/>
        <Property Name="City" Type="Edm.String"/>
        <Property Name="State" Type="Edm.String"/>
        <Property Name="ZipCode" Type="Edm.String"/>
        <Property Name="CountryName" Type="Edm.String"/>
        <NavigationProperty Name="Country" Type="self.Country">
          <ReferentialConstraint Property="CountryName" ReferencedProperty="Name"/>
        </NavigationProperty>
      </ComplexType>
      <Function Name="ProductsByRating">
        <Parameter Name="Rating" Type="Edm.Int32"/>
        <ReturnType Type="Collection(self.Product)"/>
      </Function>
      <EntityContainer Name="DemoService">
        <EntitySet Name="Products" EntityType="self.Product">
          <NavigationPropertyBinding Path="Category" Target="Categories"/>
        </EntitySet>
        <EntitySet Name="Categories" EntityType="self.Category">
          <NavigationPropertyBinding Path="Products" Target="Products"/>
          <Annotation Term="Core.Description" String="Product Categories"/>
        </EntitySet>
        <EntitySet Name="Suppliers" EntityType="self.Supplier">
          <NavigationPropertyBinding Path="Products" Target="Products"/>
          <Annotation Term="Core.OptimisticConcurrency">
            <Collection><PropertyPath>Concurrency</PropertyPath></Collection>
          </Annotation>
        </EntitySet>
        <Singleton Name="MainSupplier" Type="self.Supplier">
          <Annotation Term="Core.Description" String="Primary Supplier"/>
        </Singleton>
        <EntitySet Name="Countries" EntityType="self.Country"/>
        <FunctionImport Name="ProductsByRating" EntitySet="Products" Function="self.ProductsByRating"/>
      </EntityContainer>
    </Schema>
  </edmx:DataServices>
</edmx:Edmx>`;

const text = { $Nullable: true };
const number = { $Nullable: true, $Type: "Edm.Int32" };
const many = (type: string) => ({ $Kind: "NavigationProperty", $Collection: true, $Type: `self.${type}` });

/** OData CSDL JSON 4.01, section 16.1. */
const PRODUCTS_JSON = JSON.stringify({
  $Version: "4.01",
  $EntityContainer: "ODataDemo.DemoService",
  $Reference: {
    "Org.OData.Core.V1.json": {
      $Include: [{ $Namespace: "Org.OData.Core.V1", $Alias: "Core", "@Core.DefaultNamespace": true }],
    },
    "Org.OData.Measures.V1.json": { $Include: [{ $Namespace: "Org.OData.Measures.V1", $Alias: "Measures" }] },
  },
  ODataDemo: {
    $Alias: "self",
    "@Core.DefaultNamespace": true,
    Product: {
      $Kind: "EntityType",
      $HasStream: true,
      $Key: ["ID"],
      ID: {},
      Description: { $Nullable: true, "@Core.IsLanguageDependent": true },
      ReleaseDate: { $Nullable: true, $Type: "Edm.Date" },
      DiscontinuedDate: { $Nullable: true, $Type: "Edm.Date" },
      Rating: number,
      Price: {
        $Nullable: true,
        $Type: "Edm.Decimal",
        $Scale: "variable",
        "@Measures.ISOCurrency": { $Path: "Currency" },
      },
      Currency: { $Nullable: true, $MaxLength: 3 },
      Category: { $Kind: "NavigationProperty", $Type: "self.Category", $Partner: "Products" },
      Supplier: {
        $Kind: "NavigationProperty",
        $Nullable: true,
        $Type: "self.Supplier",
        $Partner: "Products",
      },
    },
    Category: {
      $Kind: "EntityType",
      $Key: ["ID"],
      ID: { $Type: "Edm.Int32" },
      Name: { "@Core.IsLanguageDependent": true },
      Products: { ...many("Product"), $Partner: "Category", $OnDelete: "Cascade" },
    },
    Supplier: {
      $Kind: "EntityType",
      $Key: ["ID"],
      ID: {},
      Name: text,
      Address: { $Type: "self.Address" },
      Concurrency: { $Type: "Edm.Int32" },
      Products: { ...many("Product"), $Partner: "Supplier" },
    },
    Country: { $Kind: "EntityType", $Key: ["Code"], Code: { $MaxLength: 2 }, Name: text },
    Address: {
      $Kind: "ComplexType",
      Street: text,
      City: text,
      State: text,
      ZipCode: text,
      CountryName: text,
      Country: {
        $Kind: "NavigationProperty",
        $Nullable: true,
        $Type: "self.Country",
        $ReferentialConstraint: { CountryName: "Name" },
      },
    },
    ProductsByRating: [
      {
        $Kind: "Function",
        $Parameter: [{ $Name: "Rating", ...number }],
        $ReturnType: { $Collection: true, $Type: "self.Product" },
      },
    ],
    DemoService: {
      $Kind: "EntityContainer",
      Products: {
        $Collection: true,
        $Type: "self.Product",
        $NavigationPropertyBinding: { Category: "Categories" },
      },
      Categories: {
        $Collection: true,
        $Type: "self.Category",
        $NavigationPropertyBinding: { Products: "Products" },
        "@Core.Description": "Product Categories",
      },
      Suppliers: {
        $Collection: true,
        $Type: "self.Supplier",
        $NavigationPropertyBinding: { Products: "Products" },
        "@Core.OptimisticConcurrency": ["Concurrency"],
      },
      MainSupplier: { $Type: "self.Supplier", "@Core.Description": "Primary Supplier" },
      Countries: { $Collection: true, $Type: "self.Country" },
      ProductsByRating: { $EntitySet: "Products", $Function: "self.ProductsByRating" },
    },
  },
});

const schema = (inner: string) =>
  readCsdlXml(`<Edmx Version="4.01"><Reference Uri="x"><Include Namespace="Org.OData.Measures.V1" Alias="Measures"/></Reference>
    <DataServices><Schema Namespace="org.example" Alias="self">${inner}</Schema></DataServices></Edmx>`);
const columns = (model: Model, type: string) =>
  leavesOf(model, type).map(({ path, property }) => [path.join("/"), columnRuleOf(property)]);

describe("CSDL", () => {
  it("describes the same service in XML and in JSON: section 16.1", () => {
    const model = readCsdlXml(PRODUCTS_XML);
    const shown = (of: Model) => ({ ...of, sets: of.sets.toSorted((a, b) => a.name.localeCompare(b.name)) });
    expect(shown(readCsdlJson(PRODUCTS_JSON))).toEqual(shown(model));
    expect(columns(model, "ODataDemo.Product")).toContainEqual([
      "Price",
      { digits: true, description: "unit: Currency" },
    ]);
    // the function wants a parameter: it cannot be read by itself
    expect(model.sets.map(({ kind, name, description }) => [kind, name, description])).toEqual([
      ["set", "Products", undefined],
      ["set", "Categories", "Product Categories"],
      ["set", "Suppliers", undefined],
      ["set", "Countries", undefined],
      ["singleton", "MainSupplier", "Primary Supplier"],
    ]);
  });

  it("gives keys that lie in complex properties another name: section 6.5", () => {
    const model = schema(`<EntityType Name="Category">
        <Key><PropertyRef Name="Info/ID" Alias="EntityInfoID"/></Key>
        <Property Name="Info" Type="self.EntityInfo" Nullable="false"/><Property Name="Name" Type="Edm.String"/>
      </EntityType>
      <ComplexType Name="EntityInfo">
        <Property Name="ID" Type="Edm.Int32" Nullable="false"/><Property Name="Created" Type="Edm.DateTimeOffset"/>
      </ComplexType>`);
    const alias = keyAliasOf(model, "org.example.Category", "Info/ID");
    expect(alias).toBe("EntityInfoID");
    const key = [
      { name: "Info/ID", type: "Edm.Int32", alias },
      { name: "Name", type: "Edm.String" },
    ];
    expect(keyPredicate(key, ["1", "B"], "4.01")).toBe("(EntityInfoID=1,Name='B')");
    const read = keyOfId("Categories(EntityInfoID=1,Name='B')", key, "4.01");
    expect(read).toEqual({ "Info/ID": "1", Name: "B" });
    const json = readCsdlJson(
      `{"$Version":"4.01","S":{"C":{"$Kind":"EntityType","$Key":[{"EntityInfoID":"Info/ID"}]}}}`,
    );
    expect(keyAliasOf(json, "S.C", "Info/ID")).toBe("EntityInfoID");
  });

  it("names primitive types, with a unit: section 11", () => {
    const model = schema(`<TypeDefinition Name="Length" UnderlyingType="Edm.Int32">
        <Annotation Term="Measures.Unit" String="Centimeters"/></TypeDefinition>
      <ComplexType Name="Size"><Property Name="Height" Type="self.Length"/></ComplexType>`);
    expect(columns(model, "org.example.Size")).toEqual([
      ["Height", { type: { kind: "int64" }, description: "unit: Centimeters" }],
    ]);
  });

  it("has enumerations, of flags as well: section 10", () => {
    const model = schema(`<EnumType Name="Pattern" UnderlyingType="Edm.Int32" IsFlags="true">
        <Member Name="Plain" Value="0"/><Member Name="Red" Value="1"/><Member Name="RedBlue" Value="3"/></EnumType>
      <EntityType Name="Box"><Property Name="Pattern" Type="self.Pattern"/></EntityType>`);
    expect(columns(model, "org.example.Box")).toEqual([["Pattern", { type: { kind: "text" } }]]);
  });
});

describe("URL conventions", () => {
  // OData URL Conventions 4.01, sections 2 and 4.3.1; 2.0 URI Conventions, section 3.1
  it.each([
    ["http://host/service/Categories(1)", "Edm.Int32", "4.01", "1"],
    ["http://host/service/Categories(ID=1)", "Edm.Int32", "4.01", "1"],
    ["http://host/service/People('O''Neil')", "Edm.String", "4.01", "O'Neil"],
    ["http://host/service/People(%27O%27%27Neil%27)", "Edm.String", "4.01", "O'Neil"],
    ["http://host/service/People%28%27O%27%27Neil%27%29", "Edm.String", "4.01", "O'Neil"],
    ["http://host/service/Categories('Smartphone%2FTablet')", "Edm.String", "4.01", "Smartphone/Tablet"],
    ["http://host/service/Categories('Smartphone/Tablet')", "Edm.String", "4.01", "Smartphone/Tablet"],
    // section 4.3.6: keys as segments
    ["http://host/service/Employees/A1245", "Edm.String", "4.01", "A1245"],
    ["http://host/service/Categories/Smartphone%2FTablet", "Edm.String", "4.01", "Smartphone/Tablet"],
    ["http://host/service/Categories('100%')", "Edm.String", "4.01", undefined],
    ["http://host/service/Customers('A')/Orders('B')", "Edm.String", "4.01", "B"],
    ["http://host/service.svc/Products(64L)", "Edm.Int64", "2.0", "64"],
    ["http://host/service.svc/Customers('ALFKI')", "Edm.String", "2.0", "ALFKI"],
  ] as const)("%s has a key", (id, type, version, value) => {
    const read = keyOfId(id, [{ name: "ID", type }], version);
    expect(read).toEqual(value === undefined ? undefined : { ID: value });
  });

  // OData URL Conventions 4.01, section 5.1.1.14.1 and the ABNF's primitiveLiteral; 2.0 Overview, section 6
  it.each([
    ["Edm.Duration", "P12DT23H59M59.999999999999S", "4.01", "duration'P12DT23H59M59.999999999999S'"],
    ["Edm.Binary", "T0RhdGE", "4.01", "binary'T0RhdGE'"],
    ["Edm.Guid", "01234567-89ab-cdef-0123-456789abcdef", "4.01", "01234567-89ab-cdef-0123-456789abcdef"],
    ["Edm.Date", "2012-12-03", "4.01", "2012-12-03"],
    ["Edm.TimeOfDay", "07:59:59.999", "4.01", "07:59:59.999"],
    ["Edm.Double", "INF", "4.01", "INF"],
    ["Edm.SByte", "-128", "4.01", "-128"],
    ["Edm.DateTime", "2000-12-12T12:00", "2.0", "datetime'2000-12-12T12:00'"],
    ["Edm.Decimal", "2.345", "2.0", "2.345M"],
    ["Edm.Double", "2.0", "2.0", "2.0d"],
    ["Edm.Single", "2.0", "2.0", "2.0f"],
    ["Edm.Guid", "12345678-aaaa-bbbb-cccc-ddddeeeeffff", "2.0", "guid'12345678-aaaa-bbbb-cccc-ddddeeeeffff'"],
    ["Edm.Int64", "64", "2.0", "64L"],
    ["Edm.Time", "PT13H20M", "2.0", "time'PT13H20M'"],
    ["Edm.DateTimeOffset", "2002-10-10T17:00:00Z", "2.0", "datetimeoffset'2002-10-10T17:00:00Z'"],
    ["Edm.Byte", "255", "2.0", "255"],
  ] as const)("write %s %s in %s as a literal", (type, value, version, literal) => {
    expect(literalOf(type, value, version)).toBe(literal);
    expect(valueOfLiteral(type, literal, version)).toBe(value);
  });

  // OData URL Conventions 4.01, section 5.1.3; 2.0 URI Conventions, section 4.6
  it.each([
    ["Products($filter=DiscontinuedDate eq null)", "4.01", ["Products"]],
    ["Products/$count($search=blue)", "4.01", ["Products (nothing)"]],
    ["Products/$ref", "4.01", ["Products (nothing)"]],
    ["Products/Sales.PremierProduct", "4.01", ["Products"]],
    ["SampleModel.VipCustomer/InHouseStaff", "4.01", ["InHouseStaff"]],
    ["ReportsTo($levels=4)", "4.01", ["ReportsTo"]],
    ["Category($select=Name,ID;$expand=Products($select=ID))", "4.01", ["Category:Name+ID > Products:ID"]],
    ["*/$ref,Supplier", "4.01", ["* (nothing)", "Supplier"]],
    ["Products($orderby=ReleaseDate asc,Rating desc;$top=5),Owner", "4.0", ["Products", "Owner"]],
    ["Products($filter=Name eq 'a,(b;';$select=*)", "4.0", ["Products"]],
    ["Products/Suppliers,Orders", "2.0", ["Products > Suppliers", "Orders"]],
  ] as const)("expand by %s", (option, version, ways) => {
    const shown = (each: ReturnType<typeof parseExpand>[number]): string =>
      [
        each.path.join("/") + (each.select === undefined ? "" : `:${each.select.join("+")}`),
        ...each.inner.map(shown),
      ].join(" > ") + (each.isEmpty ? " (nothing)" : "");
    expect(parseExpand(option, version).map(shown)).toEqual(ways);
  });
});

describe("the JSON format", () => {
  // OData JSON Format 4.01, sections 4.6, 6 and 13; 4.0, section 4.5; 2.0 JSON Format, sections 4 to 8
  it.each([
    [
      "a collection with a count and a next link",
      {
        "@context": "http://host/service/$metadata#Customers",
        "@count": 37,
        value: [{ "@id": "Customers('ALFKI')" }, { "@id": "Customers('BONAP')" }],
        "@nextLink": "Customers?$skiptoken=342r89",
      },
      2,
      37,
      "Customers?$skiptoken=342r89",
    ],
    [
      "an entity with links and media",
      {
        "@context": "http://host/service/$metadata#Customers/$entity",
        "@id": "Customers('ALFKI')",
        "@etag": 'W/"MjAxMy0wNS0yN1QxMTo1OFo="',
        ID: "ALFKI",
        "Orders@navigationLink": "Customers('ALFKI')/Orders",
      },
      1,
      undefined,
      undefined,
    ],
    [
      "2.0",
      {
        d: {
          results: [{ __metadata: { uri: "Categories(0)" }, ID: 0, Name: "Food" }],
          __count: "3",
          __next: "http://host/service.svc/Categories?$skiptoken=0",
        },
      },
      1,
      "3",
      "http://host/service.svc/Categories?$skiptoken=0",
    ],
  ])("has entities in %s", (_what, body, entities, count, next) => {
    expect(ENTITIES.list(body)).toHaveLength(entities);
    expect([COUNT.first(body), NEXT_LINK.first(body)]).toEqual([count, next]);
  });

  it("of 2.0 has times, and links that are not followed: 2.0 JSON Format, sections 4 and 6", () => {
    const product = {
      __metadata: { uri: "http://host/service.svc/Products(0)", type: "DataServiceProviderDemo.Product" },
      ID: 0,
      ReleaseDate: "/Date(694224000000)/",
      DiscontinuedDate: null,
      Category: { __deferred: { uri: "http://host/service.svc/Products(0)/Category" } },
    };
    const [modern] = ENTITIES.list(modernBody({ d: { results: [product] } }, new Set())) as [object];
    expect(modern).toMatchObject({ ReleaseDate: "1992-01-01T00:00:00", DiscontinuedDate: null });
  });

  it("tells of an error within a response: section 20", () => {
    const body = { value: [{ ID: 1 }], "@error": { code: "err123", message: "Unsupported functionality" } };
    expect(() => checkLateError(body, {})).toThrow("Unsupported functionality");
  });
});

describe("delta responses", () => {
  const key = [{ name: "CustomerID", type: "Edm.String" }];
  const members = ["CustomerID", "ContactName", "Orders"];
  const customers = { name: "Customers", key, members, version: "4.01" } as const;
  const read = (body: object, expanded: readonly string[]) => {
    const { value } = withKeys(body, key, "4.01") as { value: readonly unknown[] };
    return value.map((entry) => {
      const change = changeOf(entry, { ...customers, expanded });
      return change.is === "again" ? `again ${change.key.CustomerID}` : change.is;
    });
  };

  // OData JSON Format 4.0, section 14, example 22
  const OF_4_0 = {
    "@odata.context": "http://host/service/$metadata#Customers/$delta",
    "@odata.count": 5,
    value: [
      { "@odata.id": "Customers('BOTTM')", ContactName: "Susan Halvenstern" },
      {
        "@odata.context": "#Customers/$deletedLink",
        source: "Customers('ANTON')",
        relationship: "Orders",
        target: "Orders(10643)",
      },
      {
        "@odata.context": "#Customers/$link",
        source: "Customers('BOTTM')",
        relationship: "Orders",
        target: "Orders(10645)",
      },
      {
        "@odata.context": "#Orders/$entity",
        "@odata.id": "Orders(10643)",
        ShippingAddress: { Street: "23 Tsawassen Blvd." },
      },
      { "@odata.context": "#Customers/$deletedEntity", id: "Customers('ANTON')", reason: "deleted" },
    ],
    "@odata.deltaLink": "Customers?$expand=Orders&$deltatoken=8015",
  };

  it("of 4.0 hold entities, links and what is gone: section 14", () => {
    expect(read(OF_4_0, ["Orders"])).toEqual([
      "again BOTTM",
      "again ANTON",
      "again BOTTM",
      "of another set",
      "gone",
    ]);
    expect(read(OF_4_0, [])).toEqual(["again BOTTM", "nothing", "nothing", "of another set", "gone"]);
    expect(DELTA_LINK.first(OF_4_0)).toBe("Customers?$expand=Orders&$deltatoken=8015");
  });

  // OData JSON Format 4.01, section 15, examples 26 to 28
  it("of 4.01 hold changes within entities, and removals by key: section 15", () => {
    const body = {
      "@context": "http://host/service/$metadata#Customers/$delta",
      value: [
        {
          "@id": "Customers('ANTON')",
          "Orders@delta": [
            { "@id": "Orders(10643)", ShippingAddress: { Street: "23 Tsawassen Blvd." } },
            { "@removed": { reason: "changed" }, "@id": "Orders(10645)" },
          ],
        },
        { "@removed": { reason: "deleted" }, CustomerID: "ALFKI" },
        { "@context": "#Orders/$deletedEntity", "@removed": { reason: "deleted" }, "@id": "Orders(10642)" },
      ],
      "@deltaLink": "Customers?$expand=Orders&$deltatoken=8015",
    };
    expect(read(body, ["Orders"])).toEqual(["again ANTON", "gone", "of another set"]);
  });

  it("tell of what is contained by the entity that holds it: OData Protocol 4.01, section 10.9", () => {
    const within = (what: string) => ({
      value: [{ "@context": `#Customers('ALFKI')/Orders/${what}`, "@id": "Customers('ALFKI')/Orders('5')" }],
    });
    for (const what of ["$entity", "$deletedEntity"]) {
      expect(read(within(what), ["Orders"])).toEqual(["again ALFKI"]);
      expect(read(within(what), [])).toEqual(["nothing"]);
    }
  });
});
