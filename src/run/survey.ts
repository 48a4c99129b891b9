/** `survey`: what an OData service holds, from its metadata: sets, keys, columns, ways to other sets, cursors. */

import { BridgeError } from "../core/errors.js";
import { columnRuleOf, leavesOf } from "../core/odata/edm-type.js";
import { type EntitySet, keyOf, lineage, type Model } from "../core/odata/model.js";
import { formatColumnType } from "../core/shape/column-type.js";
import { formatPath } from "../core/shape/naming.js";
import { type Api, insideOf } from "./api.js";

/** A column as it would be. */
export interface SurveyColumn {
  readonly path: string;
  /** as the service declares it, such as Edm.String */
  readonly edmType: string;
  /** undefined where what comes decides */
  readonly type: string | undefined;
  readonly description: string | undefined;
}

/** A set of a service, as far as its metadata tells of it. */
export interface SurveySet {
  readonly set: string;
  readonly kind: EntitySet["kind"];
  /** the stream that carries it; undefined where none does */
  readonly stream: string | undefined;
  readonly key: readonly string[];
  readonly columns: readonly SurveyColumn[];
  /** ways to other entities: the property, and their type */
  readonly navigation: readonly { readonly name: string; readonly to: string; readonly many: boolean }[];
  /** columns that may tell of changes, the likeliest first */
  readonly cursors: readonly string[];
  /** whether the service says that it gives delta links, which tell what is gone as well */
  readonly tracksChanges: boolean;
  readonly description: string | undefined;
  /** rows, as the service counts them; undefined where that was not asked or not answered */
  readonly rows: number | undefined;
}

/** What of a service is looked at. */
export interface SurveyOptions {
  readonly api: Api;
  /** only sets whose name, columns or description hold this word, in any case */
  readonly search?: string | undefined;
  /** only this set */
  readonly set?: string | undefined;
  /** ask for the rows of each set; default: where no more than 30 are found */
  readonly count?: boolean | undefined;
  readonly signal?: AbortSignal | undefined;
}

/** So many sets are counted without being asked to. */
const MOST_COUNTED = 30;

/**
 * Looks through a service's metadata.
 * @throws BridgeError CONFIG_INVALID for what is no OData service, CONFIG_UNKNOWN_NAME, and what asking throws
 */
export async function survey({ api, search, set: only, count, signal }: SurveyOptions): Promise<SurveySet[]> {
  const inside = insideOf(api);
  if (inside.odata === undefined)
    throw new BridgeError(
      "CONFIG_INVALID",
      `Connector ${api.connector.connector} is for no OData service: nothing but its own streams is known.`,
      { hint: "See what they ask by: early-bridge plan." },
    );
  const { root, streams } = await inside.odata.learn();
  const streamOf = new Map(
    [...streams].flatMap(([name, { set }]) => (set === undefined ? [] : [[set.name, name]])),
  );
  if (only !== undefined) inside.odata.setNamed(root.model, only);
  const found = root.model.sets
    .filter((set) => only === undefined || set.name === only)
    .map((set) => surveyed(root.model, set, streamOf.get(set.name)))
    .filter((set) => search === undefined || mentions(set, search));
  if (!(count ?? found.length <= MOST_COUNTED)) return found;
  return Promise.all(
    found.map(async (set) => {
      const capable = root.model.sets.find(({ name }) => name === set.set)!.capabilities.isCountable;
      if (!capable || set.kind !== "set") return set;
      // one that cannot be counted can be carried all the same
      const rows = await inside.odata!.countRows(set.set, root, signal).catch(() => undefined);
      return { ...set, rows };
    }),
  );
}

function surveyed(model: Model, set: EntitySet, stream: string | undefined): SurveySet {
  const line = lineage(model, set.type);
  const leaves = leavesOf(model, set.type);
  const columns = leaves.flatMap(({ path, property }): SurveyColumn[] => {
    const rule = columnRuleOf(property);
    if (rule.skip === true) return [];
    const { type, description } = property;
    return [
      {
        path: formatPath(path),
        edmType: type.isCollection ? `Collection(${type.name})` : type.name,
        type: rule.type && formatColumnType(rule.type),
        description,
      },
    ];
  });
  const { capabilities } = set;
  const cursors = columns
    .filter(({ path, type }) => {
      const isTime = type === "timestamp" || type === "local_timestamp";
      return (
        isTime && capabilities.isFilterable && !capabilities.unfilterable.has(path) && !path.includes("[*]")
      );
    })
    .map(({ path }) => path)
    .sort((a, b) => likelihood(b) - likelihood(a));
  return {
    set: set.name,
    kind: set.kind,
    stream,
    key: keyOf(model, set.type),
    columns,
    navigation: line.flatMap(({ navigations }) =>
      navigations.map(({ name, type }) => ({
        name,
        to: type.name.split(".").at(-1)!,
        many: type.isCollection,
      })),
    ),
    cursors,
    tracksChanges: capabilities.tracksChanges,
    description: set.description ?? line.at(-1)?.description,
    rows: undefined,
  };
}

/** How likely a time is that of the last change, by its name. */
function likelihood(path: string): number {
  if (/chang|modif|updat/i.test(path)) return 2;
  return /creat|valid|since|birth/i.test(path) ? 0 : 1;
}

function mentions({ set, description, columns }: SurveySet, word: string): boolean {
  const texts = [set, description, ...columns.flatMap((column) => [column.path, column.description])];
  return texts.some((text) => text?.toLowerCase().includes(word.toLowerCase()));
}
