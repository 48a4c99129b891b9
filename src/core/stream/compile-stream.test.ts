import { expect, it } from "vitest";
import { defineConnector } from "../define/connector.js";
import { compileStream } from "./compile-stream.js";

it("reads keys of several fields, and rules by path", () => {
  const connector = defineConnector({
    connector: "bookings",
    api: { url: "https://api.huts.example" },
    streams: {
      bookings: {
        get: "/bookings",
        key: ["id", "stay.from"],
        columns: { "price.amount": { type: "decimal(12,2)" }, "lead_guest.email": { hash: true } },
      },
    },
  });
  const { key, columns } = compileStream(connector, "bookings", connector.streams.bookings!);
  expect(key).toEqual([["id"], ["stay", "from"]]);
  expect(columns.get("price.amount")?.type).toEqual({ kind: "decimal", precision: 12, scale: 2 });
  expect(columns.get("lead_guest.email")).toMatchObject({ hash: "plain", type: { kind: "text" } });
});
