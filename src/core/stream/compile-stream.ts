/** Streams compiled from their definitions: templates, paths, conditions and rules, each once. */

import { compileFailRules, type FailRule } from "../ask/fail-rules.js";
import { compilePages, type PageRule } from "../ask/page-rule.js";
import type { ReadPlan } from "../ask/read-page.js";
import type { ComputedField } from "../ask/record-rules.js";
import type { Parameters, RequestTemplate } from "../ask/request-plan.js";
import { chooseDecoder } from "../decode/choose-decoder.js";
import type { FailRuleDefinition, PagesDefinition, RequestDefinition } from "../define/ask-schema.js";
import type { Connector, StreamCode, StreamDefinition } from "../define/connector-schema.js";
import { measureGroups } from "../define/measure-groups.js";
import type {
  ExpandDefinition,
  ReportDefinition,
  SweepDefinition,
  ValuesRequest,
} from "../define/parts-schema.js";
import { callOwn } from "../errors.js";
import {
  type Condition,
  compileCondition,
  compileExpression,
  type Expression,
} from "../language/condition.js";
import { durationMs } from "../language/duration.js";
import { compileJsonPath } from "../language/json-path.js";
import type { JsonPath } from "../language/plain-path.js";
import { namesInTemplate, type TemplateValues } from "../language/template.js";
import type { ChangedSet } from "../odata/changes.js";
import { type ColumnType, parseColumnType } from "../shape/column-type.js";
import { DROPPING, hashing, masking } from "../shape/concealed-values.js";
import type { Hashes } from "../shape/hashes.js";
import { fieldParts, formatPath } from "../shape/naming.js";
import type { ShapeSpec } from "../shape/shaped.js";
import type { ColumnRule } from "../shape/table-shape.js";
import { compileForm } from "../shape/value-form.js";
import { wantedFields } from "../shape/wanted-fields.js";
import type { CursorRule } from "../track/cursor.js";
import { sweepDefinition } from "./sweep.js";

/** One request, or a series of pages: what to send and how to read what comes. */
export interface CompiledRequest {
  readonly template: RequestTemplate;
  readonly plan: ReadPlan;
  readonly pages: PageRule;
  readonly fails: readonly FailRule[];
  /** what paths are below, where that is not the account's base address */
  readonly base?: string | undefined;
  /** values as the address takes them; default: as they are */
  readonly addressValues?: ((values: TemplateValues) => TemplateValues) | undefined;
  /** the API takes a query in a body where its address is too long */
  readonly takesQueryInBody?: boolean | undefined;
  /** what cursor, windows and pages put into the query, joined; default: the last one of each name counts */
  readonly joinParameters?: ((said: readonly Parameters[], values: TemplateValues) => Parameters) | undefined;
}

/** A request for values: in `field` of each record, where the path leads on behind its last list. */
export interface CompiledValues {
  readonly request: CompiledRequest;
  readonly field: JsonPath | undefined;
}

/** A report's requests before its download. */
export interface CompiledReport {
  readonly definition: ReportDefinition;
  readonly submit: CompiledRequest;
  /** the state; beside it the download's address, if the API gives one */
  readonly poll: CompiledRequest;
}

/** What can be asked of an entity set beside its pages. */
export interface CompiledSet extends ChangedSet {
  /** properties whose values have addresses of their own */
  readonly streams: readonly string[];
  /** properties whose times are instants, though 2.0 and 3.0 may write them without a zone */
  readonly instants: ReadonlySet<string>;
  /** what is asked for one entity, below whose key it stands */
  readonly query: RequestTemplate["query"];
  /** the service says that it takes $skip and $top */
  readonly isPageable: boolean;
}

/** A stream ready to be asked: templates, paths, conditions and rules, each compiled once. */
export interface CompiledStream {
  readonly name: string;
  readonly definition: StreamDefinition;
  /** what is asked for the values of `lists`, and for those parts that a request of their own gives */
  readonly lists: ReadonlyMap<string, CompiledValues>;
  readonly parts: ReadonlyMap<string, CompiledValues>;
  readonly report: CompiledReport | undefined;
  /** what is asked for the records; for a report, its download */
  readonly request: CompiledRequest;
  /** where it is an entity set of an OData service */
  readonly set?: CompiledSet | undefined;
  /** what is asked for each record with expand */
  readonly expand: CompiledRequest | undefined;
  readonly key: readonly (readonly string[])[];
  /** what tells records of one response apart; default: the key */
  readonly identity?: readonly (readonly string[])[] | undefined;
  readonly columns: ReadonlyMap<string, ColumnRule>;
  readonly cursor: CursorRule | undefined;
  /** the API is given no filter for changes: old records are left out on our side */
  readonly oldLeftOut: boolean;
  /** the measures of each request; one without any where the stream has none */
  readonly measures: readonly (readonly string[])[];
  readonly where: Condition | undefined;
  /** fields that are worked out from each record, in their order */
  readonly compute: readonly ComputedField[];
  /** fields that its rules look at; undefined: they may look at any */
  readonly reads: readonly string[] | undefined;
  /** whether the field at a path becomes a column; undefined: all do */
  readonly isWanted?: ((parts: readonly string[]) => boolean) | undefined;
  /** whether a member of a record says something of it, and is no field */
  readonly isControl?: ((name: string) => boolean) | undefined;
  /** whether such a member has to be seen by who reads whole records */
  readonly isTelling?: ((name: string) => boolean) | undefined;
  /** why a record is not to be trusted, by its own words; undefined where it is */
  readonly faultOf?: ((record: Readonly<Record<string, unknown>>) => string | undefined) | undefined;
  /** what its records are, in words */
  readonly description?: string | undefined;
  /** whether a record only tells that one is gone */
  readonly isRemoval: ((record: Readonly<Record<string, unknown>>) => boolean) | undefined;
  readonly code: StreamCode | undefined;
  /** how all keys are asked for, to find what is gone */
  readonly sweep?: Sweep | undefined;
  /** how much room its tables have, where not as usual */
  readonly room?: ShapeSpec["room"];
}

/** A whole listing of the keys, at times. */
export interface Sweep {
  readonly stream: CompiledStream;
  readonly everyMs: number;
  /** what may be gone at once, of the records that stand */
  readonly share: number;
  /** how far back it goes by the cursor's field; undefined: to the beginning */
  readonly reachMs: number | undefined;
  /** the field with the value that each part is asked by, where parts are swept each by itself */
  readonly part: readonly string[] | undefined;
}

/** When and how far a sweep goes; what it asks is a stream of its own. */
export function compileSweep({ every, share, reach, part }: SweepDefinition): Omit<Sweep, "stream"> {
  return {
    everyMs: durationMs(every),
    share,
    reachMs: reach === undefined ? undefined : durationMs(reach),
    part: part === undefined ? undefined : fieldParts(part),
  };
}

/**
 * Compiles one of a connector's streams.
 * @throws BridgeError CONFIG_INVALID where the API's limits of a request are not kept
 */
export function compileStream(
  connector: Connector,
  name: string,
  definition: StreamDefinition,
): CompiledStream {
  const { key = [], report, where, expand, fields, room, sweep } = definition;
  const code = connector.code?.streams?.[name];
  const { gone } = code ?? {};
  const condition = where === undefined ? undefined : compileCondition(where, "record");
  const removal = definition.gone === undefined ? undefined : compileCondition(definition.gone, "record");
  const compute = computedFields(name, definition, code);
  const cursor = compileCursor(definition.cursor);
  const records = [definition.records].flat();
  const asked = report === undefined ? definition : { ...definition, get: report.download.get ?? "/" };
  const compile = (request: RequestDefinition, recordsKey: string, paths: readonly string[]) =>
    compileRequest(request, paths, connector.api.rules, { stream: name, recordsKey });
  const valueRequests = (key: "lists" | "each", all: Readonly<Record<string, unknown>>) =>
    new Map(
      Object.entries(all)
        .filter((entry): entry is [string, ValuesRequest] => isValuesRequest(entry[1]))
        .map(([of, request]) => {
          const { list, field } = splitAtList(request.values);
          const compiled = compile(request, `${key}.${of}.values`, [list]);
          return [of, { request: compiled, field: field === undefined ? undefined : compileJsonPath(field) }];
        }),
    );
  return {
    name,
    definition,
    lists: valueRequests("lists", definition.lists),
    parts: valueRequests("each", definition.each ?? {}),
    report: report && {
      definition: report,
      submit: compile(report.submit, "report.submit.id", [report.submit.id]),
      poll: compile(report.poll, "report.poll.state", [
        report.poll.state,
        ...(report.poll.link === undefined ? [] : [report.poll.link]),
      ]),
    },
    request: compileRequest(asked, records, connector.api.rules, {
      stream: name,
      delta: definition.cursor?.delta,
    }),
    expand: expand && compile(withPath(expand), "expand.record", [expand.record]),
    key: [key].flat().map(fieldParts),
    columns: compileColumns(definition.columns),
    cursor,
    oldLeftOut:
      cursor?.field !== undefined && cursor.query === undefined && !namesInTemplate(definition).has("since"),
    measures: measureGroups(definition.dimensions, definition.measures, { stream: name }),
    where: condition,
    compute,
    reads: code === undefined ? fieldsRead([condition, removal, ...compute]) : undefined,
    isWanted: fields && wantedFields(fields, [key].flat().map(fieldParts)),
    isRemoval:
      gone === undefined
        ? removalRule(removal)
        : (record) => callOwn("gone", { stream: name }, () => gone(record)),
    code,
    room,
    sweep: sweep && {
      stream: compileStream(connector, name, sweepDefinition(definition, sweep)),
      ...compileSweep(sweep),
    },
  };
}

/** The fields that rules look at; what is worked out itself is none of the record's. */
function fieldsRead(
  rules: readonly ({ readonly fields?: Expression["fields"] } | undefined)[],
): readonly string[] | undefined {
  const fields = rules.map((rule) => (rule === undefined ? [] : rule.fields));
  return fields.includes(undefined) ? undefined : [...new Set(fields.flatMap((each) => each!))];
}

function computedFields(
  stream: string,
  { compute }: StreamDefinition,
  code: StreamCode | undefined,
): ComputedField[] {
  const own = Object.entries(code?.compute ?? {}).map(([name, work]) => ({
    name,
    value: (record: Readonly<Record<string, unknown>>) => callOwn("compute", { stream }, () => work(record)),
  }));
  const said = Object.entries(compute).map(([name, text]) => ({ name, ...compileExpression(text) }));
  return [...said, ...own];
}

/** Most records have nothing of what a tombstone has: what cannot be judged is a record like others. */
function removalRule(condition: Condition | undefined): CompiledStream["isRemoval"] {
  if (condition === undefined) return undefined;
  return (record) => {
    try {
      return condition.holds({ record });
    } catch {
      return false;
    }
  };
}

/** An expansion whose address is in the record has no path of its own. */
function withPath(expand: ExpandDefinition): ExpandDefinition {
  return expand.link === undefined ? expand : { ...expand, get: "/" };
}

/** `$.huts[*].id` as the list `$.huts[*]` and the field `$.id` of what is in it. */
function splitAtList(path: string): { list: string; field?: string } {
  const [, list, names] = /^(.*\[\*\])((?:\.[A-Za-z_]\w*)+)$/.exec(path) ?? [];
  return list === undefined ? { list: path } : { list, field: `$${names}` };
}

function isValuesRequest(source: unknown): source is ValuesRequest {
  return typeof source === "object" && source !== null && !Array.isArray(source) && "values" in source;
}

/** `records` are the JSONPaths of what is wanted from the response. */
function compileRequest(
  definition: RequestDefinition & { readonly pages?: PagesDefinition | undefined },
  records: readonly string[],
  commonRules: readonly FailRuleDefinition[],
  of: {
    readonly stream: string;
    readonly delta?: string | true | undefined;
    readonly recordsKey?: string | undefined;
  },
): CompiledRequest {
  const pages = compilePages(definition.pages);
  const delta = typeof of.delta === "string" ? { delta: compileJsonPath(of.delta) } : {};
  return {
    template: definition,
    plan: {
      stream: of.stream,
      decoder: chooseDecoder(definition.response, records),
      records: records.map(compileJsonPath),
      recordsKey: of.recordsKey,
      envelope: { ...pages.envelope, ...delta },
    },
    pages,
    fails: compileFailRules([...definition.rules, ...commonRules]),
  };
}

function compileCursor(declared: StreamDefinition["cursor"]): CursorRule | undefined {
  if (declared === undefined) return undefined;
  const { field, query, start, overlap, order, bounds, format } = declared;
  const kind = field !== undefined ? "field" : declared.delta !== undefined ? "delta" : "last_run";
  const parts = field === undefined ? undefined : fieldParts(field);
  return { kind, field: parts, query, start, overlap, order, bounds, format };
}

const TEXT: ColumnType = { kind: "text" };
const JSON_TYPE: ColumnType = { kind: "json" };

/** Rules of columns with their hashes made by the machine, and under the account's secret where it has one. */
export function withHashes(
  columns: CompiledStream["columns"],
  secret: string | undefined,
  hashes: Hashes | undefined,
): CompiledStream["columns"] {
  const keyed = {
    hash: secret === undefined ? "plain" : "keyed",
    conceal: hashing(secret, hashes),
  } as const;
  return new Map(
    [...columns].map(([path, rule]) => [path, rule.hash === undefined ? rule : { ...rule, ...keyed }]),
  );
}

/** Rules of columns by their path in one form. */
export function compileColumns(declared: StreamDefinition["columns"]): Map<string, ColumnRule> {
  const columns = new Map<string, ColumnRule>();
  for (const [path, rule] of Object.entries(declared)) {
    const { name, mask, drop, description, form, as } = rule;
    const hash = rule.hash === true ? "plain" : undefined;
    const conceal = drop ? DROPPING : hash ? hashing() : mask === undefined ? undefined : masking(mask);
    const declaredType =
      rule.type === undefined ? (as === "json" ? JSON_TYPE : undefined) : parseColumnType(rule.type);
    const type = conceal === undefined ? declaredType : TEXT;
    const read = form === undefined || type === undefined ? undefined : compileForm(form, type);
    columns.set(formatPath(fieldParts(path)), {
      as: as === "json" ? undefined : as,
      type,
      name,
      hash,
      conceal,
      skip: drop,
      read,
      description,
    });
  }
  return columns;
}
