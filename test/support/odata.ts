/** APIs over OData services, as tests mostly want them, and a service of a few fixed responses. */

import { expect } from "vitest";
import { type Api, connect, defineConnector } from "../../src/index.js";
import { serve } from "./serve.js";
import { whenDone } from "./when-done.js";

export type Input = Parameters<typeof defineConnector>[0];

/** An API over a service; tests say of the connector what differs. */
export function openOData(url: string, rest: Partial<Input> = {}): Api {
  const connector = defineConnector({ connector: "huts", api: { url }, odata: {}, ...rest } as Input);
  const api = connect(connector, {}, { retry: { tries: 3, baseMs: 1 } });
  whenDone(() => api.close());
  return api;
}

export const failure = async (work: Promise<unknown>) => {
  const error = await work.then(
    () => undefined,
    (thrown: unknown) => thrown as { code: string; message: string; hint: string },
  );
  expect(error).toBeDefined();
  return error!;
};

export async function allRecords(api: Api, stream: string): Promise<unknown[]> {
  const records: unknown[] = [];
  for await (const record of api.records(stream)) records.push(record);
  return records;
}

/** A service of a few fixed responses, by path; texts go out as they are; what is asked is kept. */
export async function fixedService(metadata: string, responses: Readonly<Record<string, unknown>>) {
  const log: string[] = [];
  const origin = await serve((request, response) => {
    const address = decodeURIComponent(request.url ?? "");
    log.push(address);
    const [path = "", query] = address.replace(/^\/odata/, "").split("?");
    if (path === "/$metadata") return response.end(metadata);
    // what is asked of each set alike is left out of the names of responses
    const others = (query ?? "")
      .split("&")
      .filter((each) => !/^\$(select|count|expand|inlinecount)=|^$/.test(each));
    const found = responses[others.length === 0 ? path : `${path}?${others.join("&")}`];
    return response
      .writeHead(found === undefined ? 404 : 200)
      .end(typeof found === "string" ? found : JSON.stringify(found ?? {}));
  });
  return { url: `${origin}/odata`, log };
}

/** Metadata of a few types and sets. */
export const schemaOf = (inner: string, container: string, version = "4.0") =>
  `<Edmx Version="${version}"><DataServices DataServiceVersion="2.0"><Schema Namespace="N">${inner}
   <EntityContainer Name="C">${container}</EntityContainer></Schema></DataServices></Edmx>`;
/** Huts with beds. */
export const HUT = `<EntityType Name="Hut"><Key><PropertyRef Name="Id"/></Key><Property Name="Id" Type="Edm.Int32"/>
  <Property Name="Title" Type="Edm.String"/><NavigationProperty Name="Beds" Type="Collection(N.Bed)"/></EntityType>
  <EntityType Name="Bed"><Key><PropertyRef Name="No"/></Key><Property Name="No" Type="Edm.Int32"/></EntityType>`;
export const HUTS = '<EntitySet Name="Huts" EntityType="N.Hut"/>';
