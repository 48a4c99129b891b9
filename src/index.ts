/** Early Bridge for Node: connectors, APIs, bridges, projects. Warehouses are subpaths of their own. */

export { type FileTokenStoreOptions, fileTokenStore } from "./auth/file-token-store.js";
export { memoryTokenStore, type StoredTokens, type TokenStore } from "./auth/token-store.js";
export type { ProjectInput } from "./core/define/bridges-input.js";
export { type AccountSettings, defineConnector } from "./core/define/connector.js";
export type { ConnectorInput } from "./core/define/connector-input.js";
export type {
  Connector,
  ConnectorCode,
  SignableRequest,
  StreamDefinition,
} from "./core/define/connector-schema.js";
export type { Project, WriteMode } from "./core/define/project-schema.js";
export { BridgeError, type ErrorCode, type ErrorKind, isBridgeError, type Where } from "./core/errors.js";
export { ExactNumber, stringifyExact } from "./core/shape/exact-json.js";
export { type ConnectOptions, connect } from "./node/connect.js";
export { type OpenedBridge, type OpenedProject, openProject, type ProjectOptions } from "./node/project.js";
export type { Api, PagesOptions } from "./run/api.js";
export type { Page } from "./run/ask/page-series.js";
export { type Bridge, type BridgeOptions, openBridge, type RunOptions } from "./run/bridge.js";
export { connectWith } from "./run/connect-with.js";
export type { OnRunEvent, RunEvent, RunReport, StreamReport } from "./run/events.js";
export { planBridge, type StreamPlan } from "./run/plan.js";
export type { Ports } from "./run/ports.js";
export { type ProbeLine, type ProbeOptions, probe } from "./run/probe.js";
export type { RunRecord, StreamRecord, Warehouse } from "./warehouse/warehouse.js";
