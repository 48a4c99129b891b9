/** Stores: provisions as an OData 2.0 service. Its metadata says what there is; pages lead to the next one. */

import type { FastifyInstance } from "fastify";
import { storeItem, YEAR_MS } from "./data.js";
import { NEIGHBOURS_DEFAULTS } from "./defaults.js";
import { basicGuard } from "./tokens.js";
import type { World } from "./world.js";

const ITEMS = 80;
const PAGE = 30;
const HOUR_MS = 3_600_000;

const SUPPLIERS = [
  ["A1", "Mule train", "Firn"],
  ["B2", "Rope and lamp", "Scree"],
  ["C3", "Dry goods", "Moor"],
] as const;

const METADATA = `<?xml version="1.0" encoding="utf-8"?>
<edmx:Edmx Version="1.0" xmlns:edmx="http://schemas.microsoft.com/ado/2007/06/edmx"
  xmlns:m="http://schemas.microsoft.com/ado/2007/08/dataservices/metadata" xmlns:h="urn:huts:odata">
  <edmx:DataServices m:DataServiceVersion="2.0">
    <Schema Namespace="Huts.Stores" xmlns="http://schemas.microsoft.com/ado/2008/09/edm">
      <EntityType Name="Item">
        <Key><PropertyRef Name="Id"/></Key>
        <Property Name="Id" Type="Edm.Int64" Nullable="false"/>
        <Property Name="HutId" Type="Edm.Int32"/>
        <Property Name="Item" Type="Edm.String" MaxLength="40" h:label="What is on the shelf"/>
        <Property Name="Count" Type="Edm.Int32" h:label="Pieces that are left"/>
        <Property Name="Price" Type="Edm.Decimal" Precision="9" Scale="2" h:label="Of one piece, in crowns"/>
        <Property Name="SupplierCode" Type="Edm.String" MaxLength="4"/>
        <Property Name="CountedOn" Type="Edm.DateTime" h:label="When somebody counted last"/>
        <Property Name="ChangedAt" Type="Edm.DateTimeOffset"/>
        <NavigationProperty Name="Supplier" Relationship="Huts.Stores.ItemSupplier" FromRole="Item" ToRole="Supplier"/>
      </EntityType>
      <EntityType Name="Supplier">
        <Key><PropertyRef Name="Code"/></Key>
        <Property Name="Code" Type="Edm.String" Nullable="false" MaxLength="4"/>
        <Property Name="Title" Type="Edm.String"/>
        <Property Name="Valley" Type="Edm.String"/>
        <NavigationProperty Name="Items" Relationship="Huts.Stores.ItemSupplier" FromRole="Supplier" ToRole="Item"/>
      </EntityType>
      <Association Name="ItemSupplier">
        <End Type="Huts.Stores.Item" Multiplicity="*" Role="Item"/>
        <End Type="Huts.Stores.Supplier" Multiplicity="0..1" Role="Supplier"/>
        <ReferentialConstraint>
          <Principal Role="Supplier"><PropertyRef Name="Code"/></Principal>
          <Dependent Role="Item"><PropertyRef Name="SupplierCode"/></Dependent>
        </ReferentialConstraint>
      </Association>
      <EntityContainer Name="Stores" m:IsDefaultEntityContainer="true">
        <EntitySet Name="Items" EntityType="Huts.Stores.Item"/>
        <EntitySet Name="Suppliers" EntityType="Huts.Stores.Supplier"/>
      </EntityContainer>
    </Schema>
  </edmx:DataServices>
</edmx:Edmx>`;

export function addStores(app: FastifyInstance, world: World): void {
  const { storesUser, storesPassword } = NEIGHBOURS_DEFAULTS;
  const preHandler = basicGuard("stores", storesUser, storesPassword);
  app.get("/stores/odata/$metadata", { preHandler }, async (_request, reply) =>
    reply.type("application/xml").send(METADATA),
  );
  app.get("/stores/odata/Items/$count", { preHandler }, async (_request, reply) => reply.send(String(ITEMS)));
  app.get("/stores/odata/Suppliers/$count", { preHandler }, async (_request, reply) =>
    reply.send(String(SUPPLIERS.length)),
  );
  app.get("/stores/odata/Suppliers", { preHandler }, async () => ({
    d: { results: SUPPLIERS.map(([Code, Title, Valley]) => ({ Code, Title, Valley })) },
  }));
  app.get("/stores/odata/Items", { preHandler }, async (request) => {
    const query = request.query as Record<string, string | undefined>;
    const since = /^ChangedAt ge datetimeoffset'([^']+)'$/.exec(query.$filter ?? "")?.[1];
    const items = Array.from({ length: ITEMS }, (_, index) => ({ index, changedMs: changedAt(index, world) }))
      .filter(({ changedMs }) => since === undefined || changedMs >= Date.parse(since))
      .sort((a, b) => a.changedMs - b.changedMs || a.index - b.index);
    const from = Number(query.$skiptoken ?? 0);
    const results = items.slice(from, from + PAGE).map(({ index, changedMs }) => entity(index, changedMs));
    const count = query.$inlinecount === "allpages" ? { __count: String(items.length) } : {};
    const following = new URLSearchParams({ ...query, $skiptoken: String(from + PAGE) } as Record<
      string,
      string
    >);
    const next = from + PAGE < items.length ? { __next: `Items?${following}` } : {};
    return { d: { results, ...count, ...next } };
  });
}

/** Every hour, some of the provisions are counted anew. */
function changedAt(index: number, { hoursPassed }: World): number {
  const counted = hoursPassed - ((hoursPassed + ITEMS - index) % 10);
  return YEAR_MS + Math.max(0, counted) * HOUR_MS;
}

function entity(index: number, changedMs: number) {
  const { id, hut_id: hutId, item, count } = storeItem(index);
  const uri = `Items(${String(id)}L)`;
  return {
    __metadata: { uri, type: "Huts.Stores.Item" },
    Id: String(id),
    HutId: hutId,
    Item: item,
    Count: count,
    Price: `${(index % 9) + 1}.50`,
    SupplierCode: SUPPLIERS[index % SUPPLIERS.length]![0],
    CountedOn: `/Date(${YEAR_MS})/`,
    ChangedAt: `/Date(${changedMs}+0060)/`,
  };
}
