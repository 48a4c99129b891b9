/** Members and their clubs as an OData 4.0 service: next links, expansion, delta links, and an open type. */

import type { FastifyInstance, FastifyReply, FastifyRequest } from "fastify";
import { member, YEAR_MS } from "./data.js";
import type { World } from "./world.js";

const MEMBERS = 120;
const PAGE = 50;
const HOUR_MS = 3_600_000;

const CLUBS = [
  ["A1", "Ridge walkers", 1891],
  ["B2", "Snow and rope", 1924],
  ["C3", "Bog botanists", 1978],
] as const;

const METADATA = `<?xml version="1.0" encoding="utf-8"?>
<edmx:Edmx Version="4.0" xmlns:edmx="http://docs.oasis-open.org/odata/ns/edmx">
  <edmx:DataServices>
    <Schema Namespace="Huts.Members" Alias="Self" xmlns="http://docs.oasis-open.org/odata/ns/edm">
      <EnumType Name="Standing"><Member Name="Active"/><Member Name="Resting"/></EnumType>
      <ComplexType Name="Phone">
        <Property Name="Kind" Type="Edm.String"/>
        <Property Name="Number" Type="Edm.String"/>
      </ComplexType>
      <EntityType Name="Member">
        <Key><PropertyRef Name="Id"/></Key>
        <Property Name="Id" Type="Edm.Int64" Nullable="false"/>
        <Property Name="Name" Type="Edm.String"/>
        <Property Name="Since" Type="Edm.Date"/>
        <Property Name="HomeHut" Type="Edm.Int32"/>
        <Property Name="Standing" Type="Self.Standing"/>
        <Property Name="Fee" Type="Edm.Decimal" Precision="9" Scale="2"/>
        <Property Name="Phones" Type="Collection(Self.Phone)"/>
        <Property Name="ChangedAt" Type="Edm.DateTimeOffset"/>
        <Property Name="ClubCode" Type="Edm.String"/>
        <NavigationProperty Name="Club" Type="Self.Club" Partner="Members">
          <ReferentialConstraint Property="ClubCode" ReferencedProperty="Code"/>
        </NavigationProperty>
        <Annotation Term="Org.OData.Core.V1.Description" String="Somebody who sleeps in huts at the members' price"/>
      </EntityType>
      <EntityType Name="Club" OpenType="true">
        <Key><PropertyRef Name="Code"/></Key>
        <Property Name="Code" Type="Edm.String" Nullable="false"/>
        <Property Name="Title" Type="Edm.String"/>
        <NavigationProperty Name="Members" Type="Collection(Self.Member)" Partner="Club"/>
      </EntityType>
      <EntityContainer Name="Federation">
        <EntitySet Name="Members" EntityType="Self.Member">
          <NavigationPropertyBinding Path="Club" Target="Clubs"/>
          <Annotation Term="Org.OData.Capabilities.V1.ChangeTracking">
            <Record><PropertyValue Property="Supported" Bool="true"/></Record>
          </Annotation>
        </EntitySet>
        <EntitySet Name="Clubs" EntityType="Self.Club">
          <Annotation Term="Org.OData.Capabilities.V1.CountRestrictions">
            <Record><PropertyValue Property="Countable" Bool="true"/></Record>
          </Annotation>
          <Annotation Term="Org.OData.Capabilities.V1.FilterRestrictions">
            <Record><PropertyValue Property="Filterable" Bool="true"/></Record>
          </Annotation>
          <Annotation Term="Org.OData.Capabilities.V1.SortRestrictions">
            <Record><PropertyValue Property="Sortable" Bool="true"/></Record>
          </Annotation>
          <Annotation Term="Org.OData.Capabilities.V1.ChangeTracking">
            <Record><PropertyValue Property="Supported" Bool="true"/></Record>
          </Annotation>
        </EntitySet>
      </EntityContainer>
    </Schema>
  </edmx:DataServices>
</edmx:Edmx>`;

type Guard = (request: FastifyRequest, reply: FastifyReply) => Promise<unknown>;

export function addMembersOData(app: FastifyInstance, world: World, preHandler: Guard): void {
  app.get("/members/odata/$metadata", { preHandler }, async (_request, reply) =>
    reply.type("application/xml").send(METADATA),
  );
  app.get("/members/odata/Members/$count", { preHandler }, async (_request, reply) =>
    reply.send(String(present(world).length)),
  );
  app.get("/members/odata/Members", { preHandler }, async (request) => members(request, world));
  // its capabilities lie: it counts, filters, sorts and tracks nothing, whatever its metadata says
  app.get("/members/odata/Clubs", { preHandler }, async () => ({
    "@odata.context": "$metadata#Clubs",
    value: CLUBS.map(([Code, Title, Founded]) => ({ Code, Title, Founded })),
  }));
}

function members(request: FastifyRequest, world: World) {
  const query = request.query as Record<string, string | undefined>;
  if (query.$deltatoken !== undefined) return changesSince(Number(query.$deltatoken), world);
  const since = /^ChangedAt ge (\S+)$/.exec(query.$filter ?? "")?.[1];
  const found = present(world)
    .map((index) => ({ index, changedMs: changedAt(index, world) }))
    .filter(({ changedMs }) => since === undefined || changedMs >= Date.parse(since))
    .sort((a, b) => a.changedMs - b.changedMs || a.index - b.index);
  const from = Number(query.$skiptoken ?? 0);
  const value = found.slice(from, from + PAGE).map(({ index, changedMs }) => entity(index, changedMs));
  const count = query.$count === "true" ? { "@odata.count": found.length } : {};
  const following = new URLSearchParams({ ...query, $skiptoken: String(from + PAGE) } as Record<
    string,
    string
  >);
  const isTracked = request.headers.prefer?.includes("odata.track-changes") === true;
  const last = isTracked ? { "@odata.deltaLink": `Members?$deltatoken=${world.hoursPassed}` } : {};
  const next = from + PAGE < found.length ? { "@odata.nextLink": `Members?${following}` } : last;
  return { "@odata.context": "$metadata#Members", ...count, value, ...next };
}

/** Every hour five members change, and one leaves. */
function changesSince(hours: number, world: World) {
  const changed = present(world)
    .filter((index) => changedAt(index, world) > YEAR_MS + hours * HOUR_MS)
    .map((index) => entity(index, changedAt(index, world)));
  const gone = Array.from({ length: Math.max(0, leftBy(world.hoursPassed) - leftBy(hours)) }, (_, n) => ({
    "@odata.context": "$metadata#Members/$deletedEntity",
    id: `Members(${7000 + MEMBERS - 1 - leftBy(hours) - n})`,
    reason: "deleted",
  }));
  const next = { "@odata.deltaLink": `Members?$deltatoken=${world.hoursPassed}` };
  return { "@odata.context": "$metadata#Members/$delta", value: [...changed, ...gone], ...next };
}

/** How many have left: from the end of the list, at most half of it. */
const leftBy = (hours: number) => Math.min(hours, MEMBERS / 2);

function present({ hoursPassed }: World): number[] {
  return Array.from({ length: MEMBERS - leftBy(hoursPassed) }, (_, index) => index);
}

function changedAt(index: number, { hoursPassed }: World): number {
  // the last hour, up to now, whose turn it was
  const since = (((hoursPassed - index) % 24) + 24) % 24;
  return YEAR_MS + Math.max(0, hoursPassed - since) * HOUR_MS;
}

function entity(index: number, changedMs: number) {
  const { id, name, since, home_hut: homeHut, active } = member(index);
  return {
    "@odata.etag": `W/"${changedMs}"`,
    Id: String(id),
    Name: name,
    Since: since,
    HomeHut: homeHut,
    Standing: active === true ? "Active" : "Resting",
    Fee: `${40 + (index % 7)}.50`,
    Phones: Array.from({ length: index % 3 }, (_, n) => ({
      Kind: n === 0 ? "home" : "hut",
      Number: `0${index}${n}`,
    })),
    ChangedAt: new Date(changedMs).toISOString(),
    ClubCode: CLUBS[index % CLUBS.length]![0],
  };
}
