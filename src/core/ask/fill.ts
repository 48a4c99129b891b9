/** Texts with {name} in them that are no addresses: secrets, user names, bodies. */

import { BridgeError, type Where } from "../errors.js";
import type { TemplateValues } from "./template.js";

/** Puts the values in as they are; `prepare` makes each fit its surroundings. A missing one is an error. */
export function fillText(
  text: string,
  values: TemplateValues,
  where: Where = {},
  prepare: (value: string) => string = (value) => value,
): string {
  return text.replaceAll(/\{([a-z][a-z0-9_]*)\}/g, (_whole, name: string) => {
    const value = values[name];
    if (value === undefined || value === null) {
      throw new BridgeError("CONFIG_UNKNOWN_NAME", `The sign-in asks for {${name}}, which has no value.`, {
        where,
      });
    }
    return prepare(String(value));
  });
}

/** A value between XML tags or quotes. */
export function escapeXml(value: string): string {
  return value
    .replaceAll("&", "&amp;")
    .replaceAll("<", "&lt;")
    .replaceAll(">", "&gt;")
    .replaceAll('"', "&quot;");
}
