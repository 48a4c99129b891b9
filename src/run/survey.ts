/** `survey`: what an API holds, with what is known of keys, columns, cursors and pages. */

import { namesHint } from "../core/define/check.js";
import type { DraftStream } from "../core/draft/draft.js";
import { BridgeError } from "../core/errors.js";
import { columnRuleOf, leavesOf } from "../core/odata/edm-type.js";
import { type EntitySet, keyOf, lineage, type Model } from "../core/odata/model.js";
import { formatColumnType } from "../core/shape/column-type.js";
import { formatPath } from "../core/shape/naming.js";
import { type Api, insideOf } from "./api.js";
import type { ODataService } from "./odata-service.js";
import type { SurveyColumn, SurveyOptions, SurveyResource } from "./survey-resource.js";
import { openApiStreams, surveyRest } from "./survey-rest.js";

/** So many sets are counted without being asked to. */
const MOST_COUNTED = 30;

/**
 * What there is to carry: of an OData service from its metadata; else from an OpenAPI document, from the request that
 * the connector names for it, or from the connector alone.
 * @throws BridgeError CONFIG_UNKNOWN_NAME, CONFIG_INVALID for a document that is none, and what asking throws
 */
export async function survey(options: SurveyOptions): Promise<SurveyResource[]> {
  const { api, search, name: only } = options;
  const inside = insideOf(api);
  const all =
    inside.odata === undefined ? await surveyRest(inside, options) : await surveySets(inside.odata, only);
  if (only !== undefined && !all.some(({ name }) => name === only))
    throw new BridgeError(
      "CONFIG_UNKNOWN_NAME",
      `The API has nothing by the name ${only}, as far as is known.`,
      {
        hint: namesHint(
          only,
          all.map(({ name }) => name),
          "It has",
        ),
      },
    );
  const found = all
    .filter(({ name }) => only === undefined || name === only)
    .filter((each) => search === undefined || mentions(each, search));
  return inside.odata === undefined ? found : counted(inside.odata, found, options);
}

/** The streams that the API's OpenAPI document makes; undefined where it has none. */
export async function surveyedStreams(api: Api, openApi?: unknown): Promise<DraftStream[] | undefined> {
  return openApiStreams(insideOf(api), openApi);
}

async function surveySets(service: ODataService, only: string | undefined): Promise<SurveyResource[]> {
  const { root, streams } = await service.learn();
  const streamOf = new Map(
    [...streams].flatMap(([name, { set }]) => (set === undefined ? [] : [[set.name, name]])),
  );
  if (only !== undefined) service.setNamed(root.model, only);
  return root.model.sets.map((set) => surveyed(root.model, set, streamOf.get(set.name)));
}

async function counted(
  service: ODataService,
  found: SurveyResource[],
  { count, signal }: SurveyOptions,
): Promise<SurveyResource[]> {
  if (!(count ?? found.length <= MOST_COUNTED)) return found;
  const { root } = await service.learn();
  return Promise.all(
    found.map(async (each) => {
      const capable = root.model.sets.find(({ name }) => name === each.name)!.capabilities.isCountable;
      if (!capable || each.kind !== "set") return each;
      // one that cannot be counted can be carried all the same
      const rows = await service.countRows(each.name, root, signal).catch(() => undefined);
      return { ...each, rows };
    }),
  );
}

function surveyed(model: Model, set: EntitySet, stream: string | undefined): SurveyResource {
  const line = lineage(model, set.type);
  const leaves = leavesOf(model, set.type);
  const columns = leaves.flatMap(({ path, property }): SurveyColumn[] => {
    const rule = columnRuleOf(property);
    if (rule.skip === true) return [];
    const { type, description } = property;
    return [
      {
        path: formatPath(path),
        declared: type.isCollection ? `Collection(${type.name})` : type.name,
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
    name: set.name,
    kind: set.kind,
    path: undefined,
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
    pages: "its next links",
    scopes: [],
    missing: [],
    description: set.description ?? line.at(-1)?.description,
    rows: undefined,
  };
}

/** How likely a time is that of the last change, by its name. */
function likelihood(path: string): number {
  if (/chang|modif|updat/i.test(path)) return 2;
  return /creat|valid|since|birth/i.test(path) ? 0 : 1;
}

function mentions({ name, description, columns }: SurveyResource, word: string): boolean {
  const texts = [name, description, ...columns.flatMap((column) => [column.path, column.description])];
  return texts.some((text) => text?.toLowerCase().includes(word.toLowerCase()));
}
