/** Names of the columns that are ours, beside those of the data. */

/** The run that last changed the row. */
export const RUN_COLUMN = "eb_run";
export const LOADED_COLUMN = "eb_loaded_at";
export const ROW_ID_COLUMN = "eb_row_id";
export const POSITION_COLUMN = "eb_position";
export const KEY_COLUMN = "eb_key";
export const WITHIN_COLUMN = "eb_within";
/** Where fields go for which a table has no columns left: an object by their paths, as JSON. */
export const MORE_COLUMN = "eb_more";
export const STATE_COLUMN = "eb_state";
export const DELETED_COLUMN = "eb_deleted_at";
export const VALID_FROM_COLUMN = "eb_valid_from";
export const VALID_TO_COLUMN = "eb_valid_to";

/** No data column may take their names. */
export const RESERVED: readonly string[] = [
  RUN_COLUMN,
  LOADED_COLUMN,
  ROW_ID_COLUMN,
  POSITION_COLUMN,
  KEY_COLUMN,
  WITHIN_COLUMN,
  MORE_COLUMN,
  STATE_COLUMN,
  DELETED_COLUMN,
  VALID_FROM_COLUMN,
  VALID_TO_COLUMN,
];
