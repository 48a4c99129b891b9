/** What annotations say that counts for reading: descriptions, and what can be done with a set. */

import { ALL_CAPABLE, type Capabilities } from "./model.js";

export interface AnnotationValue {
  /** full name of the term, such as Org.OData.Core.V1.Description */
  readonly term: string;
  readonly value: unknown;
}

const CORE = "Org.OData.Core.V1.";
const MEASURES = "Org.OData.Measures.V1.";
const CAPABILITIES = "Org.OData.Capabilities.V1.";

/** Core.Description, else Core.LongDescription. */
export function descriptionOf(annotations: readonly AnnotationValue[]): string | undefined {
  for (const term of ["Description", "LongDescription"]) {
    const found = annotations.find((each) => each.term === CORE + term)?.value;
    if (typeof found === "string" && found !== "") return found;
  }
  return undefined;
}

/**
 * What is said of a property: its description, its unit (Measures.Unit, Measures.ISOCurrency) and whether the service
 * computes it (Core.Computed). `said`: words and unit of 2.0, which has neither vocabulary.
 */
export function propertyWords(
  annotations: readonly AnnotationValue[],
  said: { readonly words?: string | undefined; readonly unit?: string | undefined } = {},
): string | undefined {
  const find = (term: string) => annotations.find((each) => each.term === term)?.value;
  const unit = textOf(find(`${MEASURES}ISOCurrency`)) ?? textOf(find(`${MEASURES}Unit`)) ?? said.unit;
  const notes = [
    descriptionOf(annotations) ?? said.words,
    unit === undefined ? undefined : `unit: ${unit}`,
    find(`${CORE}Computed`) === true ? "computed by the service" : undefined,
  ].filter((each) => each !== undefined);
  return notes.length === 0 ? undefined : notes.join("; ");
}

/** A text, or the path of the property that holds it. */
function textOf(value: unknown): string | undefined {
  if (typeof value === "string" && value !== "") return value;
  const path = (value as { readonly $Path?: unknown } | null | undefined)?.$Path;
  return typeof path === "string" ? path : undefined;
}

/** The Capabilities vocabulary; attributes of the same sense in 2.0, whose names stand in a vendor's namespace. */
export function capabilitiesOf(
  annotations: readonly AnnotationValue[],
  attributes?: { get(name: string): string | undefined },
): Capabilities {
  const record = (term: string): Readonly<Record<string, unknown>> => {
    const value = annotations.find((each) => each.term === CAPABILITIES + term)?.value;
    return typeof value === "object" && value !== null ? (value as Record<string, unknown>) : {};
  };
  const names = (value: unknown) =>
    new Set(Array.isArray(value) ? value.filter((each): each is string => typeof each === "string") : []);
  const allowed = (name: string) => attributes?.get(name) !== "false";
  const filter = record("FilterRestrictions");
  const sort = record("SortRestrictions");
  const isSupported = (term: string) =>
    annotations.find((each) => each.term === CAPABILITIES + term)?.value !== false;
  const tracking = annotations.find((each) => each.term === `${CAPABILITIES}ChangeTracking`)?.value;
  return {
    ...ALL_CAPABLE,
    isCountable: record("CountRestrictions").Countable !== false && allowed("countable"),
    isFilterable: filter.Filterable !== false,
    isSortable: sort.Sortable !== false,
    isReadable: record("ReadRestrictions").Readable !== false && allowed("addressable"),
    tracksChanges: tracking === true || (tracking as { Supported?: unknown } | undefined)?.Supported === true,
    isPageable: isSupported("SkipSupported") && isSupported("TopSupported") && allowed("pageable"),
    unfilterable: names(filter.NonFilterableProperties),
    unsortable: names(sort.NonSortableProperties),
  };
}
