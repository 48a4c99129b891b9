/** An OData service of ours: one set, in pages with next links; it can cap in silence and break off. */

import { serve } from "./serve.js";

export interface Houses {
  readonly count: number;
  /** entities of a page */
  readonly page: number;
  /** gives the first page only, and no next link */
  readonly capped?: boolean;
  /** the page with this number ends, once, with an error in its middle */
  readonly breaksOff?: number;
  /** gives a delta link; what changes later is put into `changes` */
  readonly changes?: object[];
  /** delta links are known no longer */
  forgetful?: boolean;
}

const METADATA = {
  "4.0": `<Edmx Version="4.0"><DataServices><Schema Namespace="N">`,
  "2.0": `<Edmx Version="1.0"><DataServices DataServiceVersion="2.0"><Schema Namespace="N">`,
};

const schema = (version: "4.0" | "2.0") => `${METADATA[version]}
  <EntityType Name="Hut"><Key><PropertyRef Name="Id"/></Key>
    <Property Name="Id" Type="Edm.Int32" Nullable="false"/>
    <Property Name="Title" Type="Edm.String"/>
    <Property Name="ChangedAt" Type="Edm.DateTimeOffset"/>
  </EntityType>
  <EntityContainer Name="C"><EntitySet Name="Huts" EntityType="N.Hut"/></EntityContainer>
  </Schema></DataServices></Edmx>`;

export async function odataHouse(
  version: "4.0" | "2.0",
  houses: Houses,
): Promise<{ url: string; log: string[] }> {
  const { count, page, capped = false, breaksOff, changes } = houses;
  const start = Date.UTC(2026, 0, 1);
  const huts = Array.from({ length: count }, (_, i) => ({ id: i + 1, ms: start + i * 1000 }));
  const log: string[] = [];
  let broken = false;
  const entity = ({ id, ms }: { id: number; ms: number }) => ({
    Id: id,
    Title: `Hut ${id}`,
    ChangedAt: version === "4.0" ? new Date(ms).toISOString() : `/Date(${ms}+0000)/`,
  });
  const origin = await serve((request, response) => {
    const url = new URL(request.url ?? "", "http://huts.example");
    log.push(decodeURIComponent(request.url ?? ""));
    if (url.pathname.endsWith("/$metadata")) return response.end(schema(version));
    if (!url.pathname.endsWith("/Huts")) return response.writeHead(404).end("{}");
    if (url.searchParams.has("$deltatoken")) {
      if (houses.forgetful === true)
        return response
          .writeHead(410)
          .end('{"error":{"code":"410","message":"The delta link has expired."}}');
      const body = { value: changes, "@odata.deltaLink": "Huts?$deltatoken=later" };
      return response.end(JSON.stringify(body));
    }
    const since = /ge (?:datetimeoffset')?([^']+?)'?$/.exec(url.searchParams.get("$filter") ?? "")?.[1];
    const found = huts.filter(({ ms }) => since === undefined || ms >= Date.parse(since));
    const from = Number(url.searchParams.get("$skiptoken") ?? 0);
    const slice = found.slice(from, from + page).map(entity);
    const more = !capped && from + page < found.length;
    const query = new URLSearchParams(url.searchParams);
    query.set("$skiptoken", String(from + page));
    // relative to the page in one version, whole in the other
    const next = version === "4.0" ? `Huts?${query}` : `${origin}/odata/Huts?${query}`;
    if (breaksOff === from / page + 1 && !broken) {
      broken = true;
      return response.end(JSON.stringify({ value: slice.slice(0, 3), "@odata.error": { message: "gone" } }));
    }
    const tracked = changes !== undefined && request.headers.prefer === "odata.track-changes";
    const last = tracked ? { "@odata.deltaLink": "Huts?$deltatoken=first" } : {};
    const body =
      version === "4.0"
        ? { "@odata.count": found.length, value: slice, ...(more ? { "@odata.nextLink": next } : last) }
        : { d: { results: slice, __count: String(found.length), ...(more ? { __next: next } : {}) } };
    return response.end(JSON.stringify(body));
  });
  return { url: `${origin}/odata`, log };
}
