/**
 * Rows that go into their tables ahead of their checkpoint, where a warehouse packs rows while the next pages come in.
 * They do so in a transaction of their own, and only after a checkpoint whose rows were all new. What waits for the next
 * one waits in stages as ever, and is compared with what stands: where all of it is new, that transaction becomes the
 * one that is committed; else it is rolled back, and rows go in from the stages.
 *
 *   rows ─┬─▶ stage ── compared: all new? ──┬─ yes ─▶ COMMIT of the tables' transaction
 *         └─▶ table, not committed          └─ no ──▶ ROLLBACK; stage ─▶ table
 */

import type { TableSchema } from "../../core/shape/table-shape.js";
import type { Committed, LoadOptions } from "../warehouse.js";
import type { Prepared } from "./merge.js";
import type { StandingTable } from "./merge-plan.js";
import type { Slot } from "./slot.js";
import type { StageUse, StraightTarget } from "./stage.js";
import { isNew, STRAIGHT_RULE, standsAlike } from "./straight.js";
import { isKeyed } from "./work.js";

/** What a load knows of whether its rows may go ahead. */
export class AheadWay {
  private readonly isPossible: boolean;
  private hasLearned = false;
  private wereNew: Promise<boolean> = Promise.resolve(false);

  constructor(
    { write, notOver }: LoadOptions,
    isOffered: boolean,
    /** there are no tables yet: what comes first is new */
    private readonly isFresh: boolean,
  ) {
    this.isPossible = isOffered && write.standing === "replaced" && notOver === undefined;
  }

  /** The first checkpoint is due by then: it makes the tables. */
  get firstRows(): number | undefined {
    return this.isPossible && this.isFresh && !this.hasLearned ? STRAIGHT_RULE.firstRows : undefined;
  }

  /** Where the rows of a table may go, when the checkpoint before is in. `standing`: the tables, asked for then. */
  useOf(
    table: TableSchema,
    standing: () => ReadonlyMap<string, StandingTable>,
    into: StraightTarget,
  ): Pick<StageUse, "ahead"> {
    const { isPossible, wereNew } = this;
    const target = async () => ((await wereNew) && standsAlike(table, standing()) ? into : undefined);
    return { ahead: isPossible ? target : undefined };
  }

  /** Learns from a checkpoint that had rows. */
  learn(committed: Promise<Committed>): void {
    this.hasLearned = true;
    this.wereNew = committed.then(
      ({ counts }) => isNew(counts),
      // what it fails with is told by itself
      () => false,
    );
  }
}

/** Whether no record of a slot came twice, stands already, or is gone. */
export function areAllNew(slot: Slot, root: TableSchema, prepared: Prepared): boolean {
  const { doubled, unchanged, matches } = prepared;
  if (slot.removed !== undefined || doubled + unchanged > 0) return false;
  // without a comparison nothing is known
  return !isKeyed(root) || matches?.matched === 0;
}
