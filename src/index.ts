/** Early Bridge for Node: connectors, APIs, bridges, projects. Warehouses are subpaths of their own. */
export { isBridgeError, BridgeError, type ErrorCode, type ErrorKind, type Where } from "./core/errors.js";
export { defineConnector, type AccountSettings } from "./core/define/connector.js";
export type { Connector, ConnectorInput, StreamDefinition } from "./core/define/connector-schema.js";
export type { Project, ProjectInput, WriteMode } from "./core/define/project-schema.js";
export { ExactNumber, stringifyExact } from "./core/shape/exact-json.js";
export { connect, type Api, type ConnectOptions, type Page, type PagesOptions } from "./run/connect.js";
export { openBridge, type Bridge, type BridgeOptions, type RunOptions } from "./run/bridge.js";
export { openProject, type OpenedBridge, type OpenedProject, type ProjectOptions } from "./run/project.js";
export type { OnRunEvent, RunEvent, RunReport, StreamReport } from "./run/events.js";
export type { RunRecord, StreamRecord, Warehouse } from "./warehouse/warehouse.js";
