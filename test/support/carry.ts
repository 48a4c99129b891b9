/** Records carried into the tables of a server. */

import { expect } from "vitest";
import type { ConnectorInput } from "../../src/core/define/connector-input.js";
import type { WriteMode } from "../../src/core/define/project-schema.js";
import { type Api, openBridge } from "../../src/index.js";
import type { Warehouse } from "../../src/warehouse/warehouse.js";
import { fakeApi } from "./fake-api.js";

type StreamInput = NonNullable<ConnectorInput["streams"]>[string];

/** An API of one stream `s` with the key `id`. */
export const apiOf = (stream: Partial<StreamInput>, answer: Parameters<typeof fakeApi>[1]): Api =>
  fakeApi({ streams: { s: { get: "/s", key: "id", ...stream } as StreamInput } }, answer).api;

/** A bridge `b` into tables of the schema `huts`. */
export const bridgeInto = (
  to: Warehouse,
  api: Api,
  options: Partial<Parameters<typeof openBridge>[0]> = {},
) => openBridge({ from: api, to, name: "b", schema: "huts", ...options });

/** Carries records into `huts.s`; what is told of the stream. */
export const carryInto =
  (warehouse: (url: string) => Warehouse) =>
  async (
    url: string,
    records: readonly unknown[],
    stream: Partial<StreamInput> = {},
    write: WriteMode = "upsert",
  ) => {
    const api = apiOf(stream, () => ({ body: records }));
    const report = await (await bridgeInto(warehouse(url), api, { streams: { s: { write } } })).run();
    expect(report.error?.message).toBeUndefined();
    return report.streams[0]!;
  };
