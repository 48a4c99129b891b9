/** When rows that wait go into files; tests make them small. */
export const STAGE_SIZES = {
  /** so few rows are faster appended than handed over in a file */
  fewRows: 1000,
  /** rows of a group, which DuckDB reads on one of its threads */
  groupRows: 60_000,
  /** so many rows are a file, where they go into their table ahead */
  aheadRows: 60_000,
  /** rows are held up to so many bytes, be they few, then they go into a file */
  fileBytes: 4 * 1024 * 1024,
  /** a row of so many bytes, on average, is a long one: a full group of such would take too much memory */
  longRow: 512,
  /** long rows of so many bytes had better be a group: DuckDB holds it whole, and more than once, to pack it */
  groupBytes: 16 * 1024 * 1024,
};
