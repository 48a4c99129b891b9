/** Deliveries: an XML envelope is posted and answered; a full page says that there is more. */

import type { FastifyInstance } from "fastify";
import { escapeXml } from "../../core/language/template.js";
import { delivery } from "./data.js";
import { NEIGHBOURS_DEFAULTS } from "./defaults.js";
import { basicGuard } from "./tokens.js";

const DELIVERIES = 61;
const PAGE = 20;

export function addDeliveries(app: FastifyInstance): void {
  const { deliveriesUser, deliveriesPassword } = NEIGHBOURS_DEFAULTS;
  const preHandler = basicGuard("deliveries", deliveriesUser, deliveriesPassword);
  app.addContentTypeParser(["text/xml", "application/xml"], { parseAs: "string" }, (_request, body, done) =>
    done(null, body),
  );
  app.post("/deliveries/v1/query", { preHandler }, async (request, reply) => {
    const text = String(request.body ?? "");
    const from = Number(/<After>(\d*)<\/After>/.exec(text)?.[1] || 0);
    reply.type("text/xml; charset=utf-8");
    if (!/<Query>/.test(text)) return envelope("<d:Fault code='bad'>A Query is needed.</d:Fault>");
    const items = Array.from({ length: Math.max(0, Math.min(PAGE, DELIVERIES - from)) }, (_, i) =>
      delivery(from + i),
    );
    const elements = items.map(
      ({ number, hut, goods, kilos, by }) =>
        `<d:Delivery number="${number}"><d:Hut>${hut}</d:Hut><d:Goods unit="kg" amount="${kilos}">${goods}</d:Goods><d:By>${escapeXml(String(by))}</d:By></d:Delivery>`,
    );
    const more = from + PAGE < DELIVERIES ? `<d:More after="${from + PAGE}"/>` : "";
    return envelope(`<d:Deliveries>${elements.join("")}</d:Deliveries>${more}`);
  });
}

function envelope(inner: string): string {
  return `<?xml version="1.0" encoding="utf-8"?>\n<e:Envelope xmlns:e="urn:huts:envelope" xmlns:d="urn:huts:deliveries"><e:Body>${inner}</e:Body></e:Envelope>`;
}
