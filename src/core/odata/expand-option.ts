/** `$expand` as a tree (OData URL Conventions 4.01, section 5.1.3; OData 2.0 URI Conventions, section 4.6). */

import { isOld } from "./literal.js";
import { lineage, type Model, type Navigation, type ODataVersion, type StructuredType } from "./model.js";
import { splitOutside } from "./split-outside.js";

/** One way that is followed, with what is asked for at its end. */
export interface Expansion {
  /** the steps that lead there, type casts left out; the last one is the navigation, or `*` */
  readonly path: readonly string[];
  /** properties that are asked for; undefined: all */
  readonly select: readonly string[] | undefined;
  readonly inner: readonly Expansion[];
  /** `/$ref` and `/$count` tell of entities, and give none */
  readonly isEmpty: boolean;
}

/** Reads the option; what is in no form of the standard is read as far as it can be. */
export function parseExpand(text: string, version: ODataVersion): Expansion[] {
  const items = splitOutside(text, ",").map((item) => item.trim());
  return items
    .filter((item) => item !== "")
    .map((item) => (isOld(version) ? oldExpansion(item) : expansion(item, version)));
}

/** 2.0 has a path for each level. */
function oldExpansion(item: string): Expansion {
  const [first = "", ...rest] = item.split("/");
  const inner = rest.length === 0 ? [] : [oldExpansion(rest.join("/"))];
  return { path: [first], select: undefined, inner, isEmpty: false };
}

function expansion(item: string, version: ODataVersion): Expansion {
  const open = item.indexOf("(");
  const steps = (open < 0 ? item : item.slice(0, open)).split("/");
  const options = open < 0 ? [] : splitOutside(item.slice(open + 1).replace(/\)$/, ""), ";");
  const option = (name: string) =>
    options
      .map((each) => each.trim())
      .find((each) => each.startsWith(`$${name}=`) || each.startsWith(`${name}=`))
      ?.replace(/^[^=]*=/, "");
  const select = option("select");
  return {
    path: steps.filter((step) => !step.includes(".") && !step.startsWith("$")),
    select:
      select === undefined || select.includes("*") ? undefined : select.split(",").map((name) => name.trim()),
    inner: parseExpand(option("expand") ?? "", version),
    isEmpty: steps.some((step) => step === "$ref" || step === "$count"),
  };
}

/** The types that are derived from one, itself first. */
export function withDerived(model: Model, type: string): string[] {
  const derived = [...model.types.keys()].filter(
    (each) => each !== type && lineage(model, each).some(({ name }) => name === type),
  );
  return [type, ...derived];
}

/** All ways that lead on from some types. */
export function navigationsOf(model: Model, types: readonly string[]): Navigation[] {
  const lines = new Set(types.flatMap((each) => lineage(model, each)));
  return [...lines].flatMap(({ navigations }: StructuredType) => navigations);
}
