/** Early Bridge for Node: connectors, APIs, bridges, projects. Warehouses are subpaths of their own. */

export { type FileTokenStoreOptions, fileTokenStore } from "./auth/file-token-store.js";
export { memoryTokenStore, type StoredTokens, type TokenStore } from "./auth/token-store.js";
export type { Clock } from "./core/clock.js";
export type { ProjectInput } from "./core/define/bridges-input.js";
export { type AccountSettings, type DefinedConnector, defineConnector } from "./core/define/connector.js";
export type { ConnectorInput } from "./core/define/connector-input.js";
export type {
  Connector,
  ConnectorCode,
  PageSeen,
  SignableRequest,
  StreamCode,
  StreamDefinition,
} from "./core/define/connector-schema.js";
export type { Project, WriteMode } from "./core/define/project-schema.js";
export type { WriteMethod } from "./core/define/write-method.js";
export type { Draft, DraftStream } from "./core/draft/draft.js";
export type { Guess } from "./core/draft/seen.js";
export {
  BridgeError,
  ERROR_CODES,
  type ErrorCode,
  type ErrorKind,
  isBridgeError,
  type Where,
} from "./core/errors.js";
export type { FieldStats, FieldValue } from "./core/sample/field-stats.js";
export type { Decision, LookedAt, SampleTable } from "./core/sample/look.js";
export type { ColumnBatch, TableBatch } from "./core/shape/batch.js";
export { batchRows, batchValue } from "./core/shape/batch-rows.js";
export type { ColumnType } from "./core/shape/column-type.js";
export { ExactNumber, stringifyExact } from "./core/shape/exact-json.js";
export type { NameRules } from "./core/shape/naming.js";
export type { Issue, KnownColumn, Shaped } from "./core/shape/shaped.js";
export type { ColumnSchema, TableSchema } from "./core/shape/table-shape.js";
export type { SavedCursor } from "./core/track/cursor.js";
export type {
  HttpRequest,
  HttpResponse,
  Send,
  Spool,
  Transport,
  TransportOptions,
} from "./http/send.js";
export { type ConnectOptions, connect } from "./node/connect.js";
export { type DocumentOptions, type Drafted, type DraftOptions, draft, draftDocument } from "./node/draft.js";
export type { SignInChoice } from "./node/new-project.js";
export { type OpenedBridge, type OpenedProject, openProject, type ProjectOptions } from "./node/project.js";
export type { Api, PagesOptions } from "./run/api.js";
export type { Page } from "./run/ask/page-series.js";
export { type Bridge, type BridgeOptions, openBridge, type RunOptions } from "./run/bridge.js";
export { connectWith, type HttpOptions, type WithOptions } from "./run/connect-with.js";
export type { OnRunEvent, RunEvent, RunReport, StreamReport } from "./run/events.js";
export {
  type Figure,
  type ForecastOptions,
  forecast,
  type StreamForecast,
  type Sureness,
} from "./run/forecast.js";
export { planViews, type ViewPlan } from "./run/make-views.js";
export { type Mended, type MendedStream, type MendOptions, mend } from "./run/mend.js";
export { type Peek, type PeekOptions, peek, type Sample, type SamplePlace } from "./run/peek.js";
export { planBridge, type StreamPlan } from "./run/plan.js";
export type { Network, Ports } from "./run/ports.js";
export { type ProbeLine, type ProbeOptions, probe } from "./run/probe.js";
export { type RewindOptions, type Rewound, type RewoundPart, rewind } from "./run/rewind.js";
export { survey } from "./run/survey.js";
export type { SurveyColumn, SurveyOptions, SurveyResource } from "./run/survey-resource.js";
export { addCounts, NO_ROWS, type RowCounts } from "./warehouse/row-counts.js";
export type {
  CheckpointEntry,
  Committed,
  Ledger,
  LoadOptions,
  NotOver,
  RunEnd,
  RunOutcome,
  RunRecord,
  RunStart,
  SampleRow,
  SchemaChange,
  Spent,
  StreamLoad,
  StreamOutcome,
  StreamRecord,
  TableView,
  ViewOutcome,
  ViewPlace,
  ViewQueries,
  Warehouse,
  WarehouseFacts,
  WarehouseSession,
} from "./warehouse/warehouse.js";
