/** What became of rows: counts of each kind. */

/** Rows of the stream's own table that a checkpoint changed; child rows follow their parents and are not counted. */
export interface RowCounts {
  readonly added: number;
  readonly changed: number;
  /** came again, and were as they stood */
  readonly unchanged: number;
  /** told to be gone, or (replace only) no longer given by the API */
  readonly removed: number;
  /** records that came more than once between two checkpoints: the last one counts */
  readonly doubled: number;
  /**
   * by a way of writing that lets them be, into a table that is not ours: nothing there to update or to delete, there
   * already where rows are inserted only, gone where rows stay
   */
  readonly passedOver: number;
}

/** Counts of nothing. */
export const NO_ROWS: RowCounts = Object.freeze({
  added: 0,
  changed: 0,
  unchanged: 0,
  removed: 0,
  doubled: 0,
  passedOver: 0,
});

/** The sum of two counts. */
export function addCounts(a: RowCounts, b: RowCounts): RowCounts {
  return {
    added: a.added + b.added,
    changed: a.changed + b.changed,
    unchanged: a.unchanged + b.unchanged,
    removed: a.removed + b.removed,
    doubled: a.doubled + b.doubled,
    passedOver: a.passedOver + b.passedOver,
  };
}
