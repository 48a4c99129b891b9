/** Stores: provisions as an OData 2.0 service. Its metadata says what there is; pages lead to the next one. */

import type { FastifyInstance } from "fastify";
import { storeItem, YEAR_MS } from "./data.js";
import { NEIGHBOURS_DEFAULTS } from "./defaults.js";
import { basicGuard } from "./tokens.js";
import type { World } from "./world.js";

const ITEMS = 80;
const PAGE = 30;
const HOUR_MS = 3_600_000;

const METADATA = `<?xml version="1.0" encoding="utf-8"?>
<edmx:Edmx Version="1.0" xmlns:edmx="http://schemas.microsoft.com/ado/2007/06/edmx"
  xmlns:m="http://schemas.microsoft.com/ado/2007/08/dataservices/metadata">
  <edmx:DataServices m:DataServiceVersion="2.0">
    <Schema Namespace="Huts.Stores" xmlns="http://schemas.microsoft.com/ado/2008/09/edm">
      <EntityType Name="Item">
        <Key><PropertyRef Name="Id"/></Key>
        <Property Name="Id" Type="Edm.Int64" Nullable="false"/>
        <Property Name="HutId" Type="Edm.Int32"/>
        <Property Name="Item" Type="Edm.String" MaxLength="40"/>
        <Property Name="Count" Type="Edm.Int32"/>
        <Property Name="Price" Type="Edm.Decimal" Precision="9" Scale="2"/>
        <Property Name="CountedOn" Type="Edm.DateTime"/>
        <Property Name="ChangedAt" Type="Edm.DateTimeOffset"/>
      </EntityType>
      <EntityContainer Name="Stores" m:IsDefaultEntityContainer="true">
        <EntitySet Name="Items" EntityType="Huts.Stores.Item"/>
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
    CountedOn: `/Date(${YEAR_MS})/`,
    ChangedAt: `/Date(${changedMs}+0060)/`,
  };
}
