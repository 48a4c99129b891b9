/** The pure heart: no I/O, no clock, no Node. It runs in a browser. */

export { type PageRead, type ReadPlan, readPage } from "./ask/read-page.js";
export type { Decoder } from "./decode/choose-decoder.js";
export { csvDecoder } from "./decode/csv.js";
export { jsonDecoder } from "./decode/json.js";
export { jsonLinesDecoder } from "./decode/json-lines.js";
export { unpack } from "./decode/unpack.js";
export { xmlDecoder } from "./decode/xml.js";
export type { ProjectInput } from "./define/bridges-input.js";
export { checkValue, parseYaml, type YamlFile } from "./define/check.js";
export {
  type Account,
  checkConnector,
  defineConnector,
  resolveAccount,
} from "./define/connector.js";
export type { ConnectorInput } from "./define/connector-input.js";
export { type Connector, connectorSchema } from "./define/connector-schema.js";
export { jsonSchemaOf } from "./define/json-schema.js";
export { type Project, projectSchema } from "./define/project-schema.js";
export type { Draft, DraftStream } from "./draft/draft.js";
export { draftHar, isHar } from "./draft/draft-har.js";
export { draftText } from "./draft/draft-text.js";
export type { Guess } from "./draft/seen.js";
export { BridgeError, ERROR_CODES, type ErrorCode, isBridgeError } from "./errors.js";
export { compileJsonPath } from "./language/json-path.js";
export { compilePlainPath, type JsonPath } from "./language/plain-path.js";
export { expandTemplate } from "./language/template.js";
export { readCsdlJson } from "./odata/csdl-json.js";
export { readCsdlXml } from "./odata/csdl-xml.js";
export type { EntitySet, Model, Property, StructuredType } from "./odata/model.js";
export { type ReportedLimits, readLimits } from "./pace/limit-headers.js";
export { Pace, type PaceLimits } from "./pace/pace.js";
export { backOffMs, RETRY_DEFAULTS, type RetryPolicy } from "./pace/retry-policy.js";
export { FieldStatistics, type FieldStats, type FieldValue } from "./sample/field-stats.js";
export { type Decision, type LookedAt, lookAt, type SampleTable } from "./sample/look.js";
export { type Preview, type PreviewOptions, preview } from "./sample/preview.js";
export { type ShapedRecords, type ShapedTable, type ShapeOptions, shape } from "./sample/shape-records.js";
export type { ColumnBatch, TableBatch } from "./shape/batch.js";
export { batchRows, batchValue } from "./shape/batch-rows.js";
export { type ColumnType, formatColumnType, parseColumnType } from "./shape/column-type.js";
export { ExactNumber, parseExactJson, stringifyExact } from "./shape/exact-json.js";
export { Shape } from "./shape/shape.js";
export type { Issue, Shaped, ShapeSpec } from "./shape/shaped.js";
export type { ColumnRule, ColumnSchema, TableSchema } from "./shape/table-shape.js";
export { type FilledTable, unshape } from "./shape/unshape.js";
export { type CompiledRequest, type CompiledStream, compileStream } from "./stream/compile-stream.js";
export {
  type CursorRule,
  type CursorSpan,
  joinSpans,
  nextCursor,
  type SavedCursor,
  startOfCursor,
} from "./track/cursor.js";
