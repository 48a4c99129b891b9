/**
 * RFC 6570 URI templates over named values.
 *
 * Addresses are expanded as the RFC says, percent-encoded. Texts that are no addresses (headers, bodies, query
 * values before they are encoded) take `{name}` as it is; a list is joined by commas there, as the RFC does.
 */

import { StdUriTemplate } from "@std-uritemplate/std-uritemplate";
import { BridgeError, type Where } from "../errors.js";

export type Scalar = string | number | boolean | bigint;
/** Values by name; an empty one (undefined, null) is known but has nothing to say. */
export type TemplateValues = Readonly<Record<string, Scalar | readonly Scalar[] | null | undefined>>;

/** The names that a template asks for, in order. */
export function templateNames(template: string): string[] {
  const names: string[] = [];
  for (const [, expression] of template.matchAll(/\{[+#./;?&]?([^{}]+)\}/g)) {
    for (const variable of expression!.split(",")) names.push(variable.replace(/(\*|:\d+)$/, ""));
  }
  return names;
}

/** Why a text is no URI template; undefined: it is one. */
export function templateFault(template: string): string | undefined {
  try {
    StdUriTemplate.expand(template, {});
    return undefined;
  } catch (error) {
    return (error as Error).message;
  }
}

/**
 * Expands an address. A name without a value is an error, for RFC 6570 itself would leave it out silently; only within
 * `{?…}` and `{&…}` may a name that is known have none.
 * @throws BridgeError CONFIG_UNKNOWN_NAME, CONFIG_INVALID
 */
export function expandTemplate(template: string, values: TemplateValues, where: Where = {}): string {
  const context: Record<string, string | number | boolean | (string | number | boolean)[]> = {};
  const optional = optionalNames(template);
  for (const name of templateNames(template)) {
    const value = values[name];
    if (value === undefined || value === null) {
      if (optional.has(name) && name in values) continue;
      throw missing(template, name, values, where);
    }
    context[name] = isList(value) ? value.map(printable) : printable(value);
  }
  try {
    return StdUriTemplate.expand(template, context);
  } catch (error) {
    throw new BridgeError(
      "CONFIG_INVALID",
      `"${template}" is no URI template: ${(error as Error).message}.`,
      {
        where,
        hint: "Names stand in braces, as {id} or {?from,to}; see RFC 6570.",
        cause: error,
      },
    );
  }
}

/** Names in `{?…}` and `{&…}`: empty ones are left out there, by section 3.2.8 of the RFC. */
function optionalNames(template: string): ReadonlySet<string> {
  const forms = [...template.matchAll(/\{[?&][^{}]+\}/g)].map(([form]) => form);
  return new Set(forms.flatMap(templateNames));
}

function printable(value: Scalar): string | number | boolean {
  return typeof value === "bigint" ? String(value) : value;
}

export function isList(value: unknown): value is readonly Scalar[] {
  return Array.isArray(value);
}

/** The names of a plain text: `{name}`, nothing else. Braces with anything else in them are text. */
export function textNames(text: string): string[] {
  return [...text.matchAll(PLACE)].map(([, name]) => name!);
}

const PLACE = /\{([a-z][a-z0-9_]*)\*?\}/g;

/** The names in every text of a value, however deep. */
export function namesInTemplate(value: unknown): ReadonlySet<string> {
  if (typeof value === "string") return new Set([...textNames(value), ...templateNames(value)]);
  if (typeof value !== "object" || value === null) return new Set();
  return new Set(Object.values(value).flatMap((each) => [...namesInTemplate(each)]));
}

/**
 * Puts the values into a text that is no address; `prepare` makes each fit its surroundings.
 * Undefined when the text asks for values and one of them is empty: the whole is left out then.
 * @throws BridgeError CONFIG_UNKNOWN_NAME
 */
export function fillOptional(
  text: string,
  values: TemplateValues,
  where: Where = {},
  prepare: (value: string) => string = (value) => value,
): string | undefined {
  let empty = false;
  const filled = text.replaceAll(PLACE, (_whole, name: string) => {
    if (!(name in values)) throw missing(text, name, values, where);
    const value = values[name];
    if (value === undefined || value === null || (isList(value) && value.length === 0)) {
      empty = true;
      return "";
    }
    return prepare(isList(value) ? value.join(",") : String(value));
  });
  return empty ? undefined : filled;
}

/** As `fillOptional`, where an empty value is an error. */
export function fillText(
  text: string,
  values: TemplateValues,
  where: Where = {},
  prepare?: (value: string) => string,
): string {
  const filled = fillOptional(text, values, where, prepare);
  if (filled !== undefined) return filled;
  const empty = textNames(text).find((name) => values[name] === undefined || values[name] === null) ?? text;
  throw missing(text, empty, values, where);
}

/** As `fillOptional`, where an empty value is an empty text. */
export function fillBlank(text: string, values: TemplateValues, prepare: (value: string) => string): string {
  const blank = Object.fromEntries(Object.entries(values).map(([name, value]) => [name, value ?? ""]));
  return fillOptional(text, blank, {}, prepare) ?? "";
}

/** The value itself, with its type, where the whole text is one `{name}`; else the filled text. */
export function fillValue(
  text: string,
  values: TemplateValues,
  where: Where = {},
): Scalar | readonly Scalar[] | undefined {
  const whole = /^\{([a-z][a-z0-9_]*)(\*?)\}$/.exec(text);
  if (whole === null) return fillOptional(text, values, where);
  const name = whole[1]!;
  if (!(name in values)) throw missing(text, name, values, where);
  const value = values[name];
  if (value === null || value === undefined || (isList(value) && value.length === 0)) return undefined;
  return value;
}

/** A value between XML tags or quotes. */
export function escapeXml(value: string): string {
  return value
    .replaceAll("&", "&amp;")
    .replaceAll("<", "&lt;")
    .replaceAll(">", "&gt;")
    .replaceAll('"', "&quot;");
}

function missing(text: string, name: string, values: TemplateValues, where: Where): BridgeError {
  const known =
    Object.keys(values)
      .filter((key) => values[key] !== undefined && values[key] !== null)
      .join(", ") || "none";
  const shown = text.length > 60 ? `${text.slice(0, 59)}…` : text;
  return new BridgeError("CONFIG_UNKNOWN_NAME", `"${shown}" asks for {${name}}, which has no value.`, {
    where,
    hint: `Declare ${name} under settings and give it in the account. Names with a value: ${known}.`,
  });
}
