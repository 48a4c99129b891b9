/** RFC 6570 URI templates over an account's settings. */

import { type PrimitiveValue, parseTemplate } from "url-template";
import { BridgeError, type Where } from "../errors.js";

export type TemplateValues = Readonly<Record<string, PrimitiveValue | undefined>>;

/** The names that a template asks for, in order. */
export function templateNames(template: string): string[] {
  const names: string[] = [];
  for (const [, expression] of template.matchAll(/\{[+#./;?&]?([^{}]+)\}/g)) {
    for (const variable of expression!.split(",")) names.push(variable.replace(/(\*|:\d+)$/, ""));
  }
  return names;
}

/** Expands a template; a name without a value is an error, for RFC 6570 itself would leave it out silently. */
export function expandTemplate(template: string, values: TemplateValues, where: Where = {}): string {
  const context: Record<string, PrimitiveValue> = {};
  for (const name of templateNames(template)) {
    const value = values[name];
    if (value === undefined) {
      const known = Object.keys(values).join(", ") || "none";
      throw new BridgeError("CONFIG_UNKNOWN_NAME", `"${template}" asks for {${name}}, which has no value.`, {
        where,
        hint: `Declare ${name} under settings and give it in the account. Names with a value: ${known}.`,
      });
    }
    context[name] = value;
  }
  return parseTemplate(template).expand(context);
}
