/**
 * Rows that go into their tables ahead of their checkpoint, where a warehouse packs rows while the next pages come in.
 * They do so in a transaction of their own, and only where there is no table yet, or what came last was all new. They
 * wait in stages as ever, and are compared with what stands. Where all are new, that transaction becomes the one that
 * is committed; else it is rolled back, and rows go in from the stages.
 *
 *   rows ─┬─▶ stage ── compared: all new? ──┬─ yes ─▶ COMMIT of the tables' transaction
 *         └─▶ table, not committed          └─ no ──▶ ROLLBACK; stage ─▶ table
 */

import type { TableSchema } from "../../core/shape/table-shape.js";
import type { Committed, LoadOptions } from "../warehouse.js";
import type { Prepared } from "./merge.js";
import type { StandingTable } from "./merge-plan.js";
import type { Slot } from "./slot.js";
import type { AheadTarget, StageUse } from "./stage.js";
import { isNew, standsAlike } from "./straight.js";
import { isKeyed } from "./work.js";

/** What a load knows of whether its rows may go ahead. */
export class AheadWay {
  private readonly isPossible: boolean;
  private wereNew: Promise<boolean>;

  constructor(
    { write, notOver }: LoadOptions,
    isOffered: boolean,
    /** no checkpoint has made the tables yet */
    private isFresh: boolean,
  ) {
    this.isPossible = isOffered && write.standing === "replaced" && notOver === undefined;
    this.isFresh &&= !write.buildsBeside;
    this.wereNew = Promise.resolve(this.isFresh);
  }

  /**
   * Where the rows of a stage may go, when the checkpoint before is in. `standing`: the tables, asked for then;
   * `targetOf`: where one of them is, and what makes it.
   */
  use(
    standing: () => ReadonlyMap<string, StandingTable>,
    targetOf: (table: TableSchema) => AheadTarget,
  ): Pick<StageUse, "ahead"> {
    const { isPossible, isFresh, wereNew } = this;
    const ahead = async (table: TableSchema) => {
      if (!(await wereNew)) return undefined;
      const target = targetOf(table);
      if (!standing().has(table.name)) return isFresh ? target : undefined;
      return standsAlike(table, standing()) ? { ...target, make: undefined } : undefined;
    };
    return { ahead: isPossible ? ahead : undefined };
  }

  /** Learns from a checkpoint that had rows. */
  learn(committed: Promise<Committed>): void {
    this.isFresh = false;
    this.wereNew = committed.then(
      ({ counts }) => isNew(counts),
      // what it fails with is told by itself
      () => false,
    );
  }
}

/** Whether no record of a slot came twice, stands already, or is gone; `stands`: the stream's own table does. */
export function areAllNew(slot: Slot, root: TableSchema, stands: boolean, prepared: Prepared): boolean {
  const { doubled, unchanged, matches } = prepared;
  if (slot.removed !== undefined || doubled + unchanged > 0) return false;
  // without a comparison nothing is known
  return !stands || !isKeyed(root) || matches?.matched === 0;
}
