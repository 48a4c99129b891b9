/** The columns of an OData stream: its own properties and those of what it expands, before the first row. */

import { namesHint } from "../define/check.js";
import type { StreamDefinition } from "../define/connector-schema.js";
import { BridgeError } from "../errors.js";
import { columnRuleOf, type Leaf, leavesOf } from "../odata/edm-type.js";
import { type Expansion, navigationsOf, parseExpand, withDerived } from "../odata/expand-option.js";
import { isOld } from "../odata/literal.js";
import { lineage, type Model, type ODataVersion, propertiesOf } from "../odata/model.js";
import { formatPath, parsePath } from "../shape/naming.js";
import type { ColumnRule } from "../shape/table-shape.js";

/** What a set's entities hold. */
export interface ODataColumns {
  /** the set's type, and those derived from it: the set may hold entities of each */
  readonly types: readonly string[];
  /** the own properties that hold values, each once */
  readonly leaves: readonly Leaf[];
  readonly expansions: readonly Expansion[];
  readonly rules: ReadonlyMap<string, ColumnRule>;
}

/** What is known of a service that columns depend on. */
interface Service {
  readonly model: Model;
  readonly version: ODataVersion;
}

/** @throws BridgeError CONFIG_UNKNOWN_NAME for a way or a property that the type has not */
export function odataColumns(
  service: Service,
  type: string,
  definition: StreamDefinition,
  stream: string,
): ODataColumns {
  const { model, version } = service;
  const types = withDerived(model, type);
  const leaves = leavesOfAll(model, types);
  const { $expand } = definition.query;
  const expansions = typeof $expand === "string" ? parseExpand($expand, version) : [];
  const rules = new Map<string, ColumnRule>();
  for (const { path, property } of leaves) rules.set(formatPath(path), columnRuleOf(property));
  addExpanded(model, types, expansions, [], rules, stream);
  checkPaths(model, types, definition, stream);
  for (const [path, rule] of Object.entries(definition.columns))
    if (rule.drop === true) rules.set(path, { skip: true });
  return { types, leaves, expansions, rules };
}

function leavesOfAll(model: Model, types: readonly string[]): Leaf[] {
  const leaves = new Map<string, Leaf>();
  for (const each of types)
    for (const leaf of leavesOf(model, each)) {
      const at = formatPath(leaf.path);
      if (!leaves.has(at)) leaves.set(at, leaf);
    }
  return [...leaves.values()];
}

/** As deep as expansions are followed: `$levels` and circles come to an end. */
const MOST_DEPTH = 12;

/** Columns of what is expanded; links that are not followed say where entities are, and hold none. */
function addExpanded(
  model: Model,
  types: readonly string[],
  expansions: readonly Expansion[],
  at: readonly string[],
  rules: Map<string, ColumnRule>,
  stream: string,
): void {
  const navigations = navigationsOf(model, types);
  const followsAll = expansions.some(({ path }) => path.at(-1) === "*");
  for (const { name } of navigations)
    if (!followsAll && !expansions.some(({ path }) => path[0] === name))
      rules.set(formatPath([...at, name]), { skip: true });
  for (const expansion of expansions) {
    if (expansion.path.at(-1) === "*" || expansion.isEmpty || at.length >= MOST_DEPTH) continue;
    const way = followed(model, types, expansion.path, stream);
    if (way === undefined) continue;
    const inside = [...at, ...expansion.path, ...(way.isCollection ? ["[*]"] : [])];
    const targets = withDerived(model, way.name);
    for (const { path, property } of leavesOfAll(model, targets))
      if (expansion.select?.includes(path[0]!) !== false)
        rules.set(formatPath([...inside, ...path]), columnRuleOf(property));
    addExpanded(model, targets, expansion.inner, inside, rules, stream);
  }
}

/** The type at the end of a way; undefined where it leads through what the metadata does not tell. */
function followed(
  model: Model,
  from: readonly string[],
  path: readonly string[],
  stream: string,
): { readonly name: string; readonly isCollection: boolean } | undefined {
  const [step, ...rest] = path;
  if (step === undefined) return undefined;
  const navigations = navigationsOf(model, from);
  const navigation = navigations.find(({ name }) => name === step);
  if (navigation !== undefined) return rest.length === 0 ? navigation.type : undefined;
  const property = from.flatMap((each) => propertiesOf(model, each)).find(({ name }) => name === step);
  if (property !== undefined && rest.length > 0) return followed(model, [property.type.name], rest, stream);
  throw new BridgeError("CONFIG_UNKNOWN_NAME", `$expand names ${step}, and nothing leads there.`, {
    where: { stream },
    hint: namesHint(step, [...new Set(navigations.map(({ name }) => name))], "Ways to other entities"),
  });
}

/** A rule for a property that is none is a slip of the pen. */
function checkPaths(
  model: Model,
  types: readonly string[],
  { columns, add, compute, expand, query }: StreamDefinition,
  stream: string,
): void {
  const isOpen = types.some((each) => lineage(model, each).some((type) => type.isOpen));
  // functions, details and options of the service's own may give more than the type tells
  if (isOpen || expand !== undefined || "$apply" in query || "$compute" in query) return;
  const known = new Set([
    ...types.flatMap((each) => propertiesOf(model, each).map(({ name }) => name)),
    ...navigationsOf(model, types).map(({ name }) => name),
    ...Object.keys(add),
    ...Object.keys(compute),
  ]);
  for (const path of Object.keys(columns)) {
    const step = parsePath(path)?.[0];
    if (step === undefined || known.has(step)) continue;
    throw new BridgeError("CONFIG_UNKNOWN_NAME", `columns names ${path}, which is no property of the set.`, {
      where: { stream },
      hint: namesHint(step, [...known], "Properties"),
    });
  }
}

/** Before 4.01, a longer list of properties is left out: all of them come then. Bytes. */
const LONGEST_SELECT = 1500;

/**
 * Exactly the properties that become columns; nothing, where others are wanted as well (open types, derived types) or
 * the list is too long. Before 4.0, what is expanded must be selected, too (OData 2.0 URI Conventions, section 4.8).
 */
export function selectOf(
  { model, version }: Service,
  { types, leaves, expansions, rules }: ODataColumns,
): Record<string, string> {
  const isOpen = types.some((each) => lineage(model, each).some((type) => type.isOpen));
  const isSkipped = (path: readonly string[]) => rules.get(formatPath(path))?.skip === true;
  const wanted = leaves.filter(({ path }) => !isSkipped(path)).map(({ path }) => path[0]!);
  const select = [...new Set([...wanted, ...(isOld(version) ? expansions.flatMap(oldPaths) : [])])].join(",");
  const isLong = select.length > LONGEST_SELECT && version !== "4.01";
  const isWhole = isOpen || types.length > 1 || isLong || select === "";
  return isWhole ? {} : { $select: select };
}

/** `Supplier` and `Supplier/Valley`: a level is selected beside the one that leads to it. */
function oldPaths({ path, inner }: Expansion): string[] {
  const at = path.join("/");
  return [at, ...inner.flatMap(oldPaths).map((each) => `${at}/${each}`)];
}
