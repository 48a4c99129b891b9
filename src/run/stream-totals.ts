/** What one stream's run has taken in so far, for its report; and whether the sums are right at the end. */

import { BridgeError } from "../core/errors.js";
import type { TableBatch } from "../core/shape/batch.js";
import type { Issue } from "../core/shape/shaped.js";
import type { CursorField } from "../core/track/cursor-field.js";
import { KIND_WORDS } from "../core/track/cursor-value.js";
import type { RowCounts } from "../warehouse/row-counts.js";
import type { Page } from "./ask/page-series.js";

/** What may go to quarantine in one run of a stream; undefined: any number. */
export interface QuarantineRule {
  readonly records?: number | undefined;
  /** of the records that came */
  readonly share?: number | undefined;
}

/** A share of a few records says little. */
const FEWEST_OF_SHARE = 20;

export class StreamTotals {
  /** records that the API gave, those that rules left out, and those that were kept */
  received = 0;
  leftOut = 0;
  records = 0;
  quarantined = 0;
  pages = 0;
  readonly rowsByTable: Record<string, number> = {};
  /** values of the cursor's field that are of another kind than the stream's, and the first of them */
  private strange = 0;
  private stranger: string | undefined;

  /** Counts a page. */
  takePage(page: Page): void {
    this.pages++;
    this.received += page.came.length;
    this.leftOut += page.leftOut;
    this.records += page.records.length;
    this.strange += page.span?.strange ?? 0;
    this.stranger ??= page.span?.stranger;
  }

  /**
   * Why the stream has to stop before all is wrong: more does not fit than the bridge permits. `ofPage`: records that
   * came on the page that is taken.
   */
  tooManyMisfits(
    issues: readonly Issue[],
    ofPage: number,
    { records, share }: QuarantineRule,
  ): BridgeError | undefined {
    const [first] = issues;
    const all = this.quarantined + issues.length;
    const came = this.received + ofPage;
    const isMuch = share !== undefined && all >= FEWEST_OF_SHARE && all > came * share;
    if (first === undefined || (!isMuch && (records === undefined || all <= records))) return undefined;
    const permitted = isMuch ? `a share of ${share}` : String(records);
    return new BridgeError(
      "QUARANTINE_FULL",
      `${all} records do not fit, and the bridge permits ${permitted}. One of them: ${first.message}.`,
    );
  }

  /** Counts rows of a page; gives how many there are in all tables. */
  takeRows(batches: readonly TableBatch[], issues: number): number {
    this.quarantined += issues;
    let rows = 0;
    for (const batch of batches) {
      rows += batch.rows;
      this.rowsByTable[batch.table] = (this.rowsByTable[batch.table] ?? 0) + batch.rows;
    }
    return rows;
  }

  /**
   * What came is in the tables, in quarantine, told of what is gone, or was left out: nothing else may happen to a
   * record. `replaced`: rows were removed because they did not come again.
   * @throws BridgeError INCOMPLETE
   */
  checkSums({ added, changed, unchanged, removed, doubled, passedOver }: RowCounts, replaced: boolean): void {
    const { received, leftOut, quarantined } = this;
    const told = replaced ? 0 : removed;
    const accounted = added + changed + unchanged + told + doubled + passedOver + leftOut + quarantined;
    if (accounted === received) return;
    throw new BridgeError(
      "INCOMPLETE",
      `${received} records came, and ${accounted} are accounted for: ${added} added, ${changed} changed, ${unchanged} unchanged, ${told} removed, ${doubled} doubled, ${passedOver} passed over, ${leftOut} left out, ${quarantined} in quarantine.`,
      { hint: "This is a fault of early-bridge itself; please report it." },
    );
  }

  /** What to tell of the cursor's values; undefined where there is nothing. */
  strangeValues(field: CursorField | undefined): string | undefined {
    if (this.strange === 0 || field?.kind === undefined) return undefined;
    const many = this.strange === 1 ? "1 record has" : `${this.strange} records have`;
    return `cursor.field ${field.rule.field.join(".")} holds ${KIND_WORDS[field.kind]}, but ${many} another value there, such as ${this.stranger}: they move no cursor.`;
  }
}
