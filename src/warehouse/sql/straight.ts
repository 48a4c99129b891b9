/**
 * Rows that go straight into their tables, where a server would else write each of them twice. They do so inside of the
 * transaction that their checkpoint commits, and only while all that comes is new. Whether it is, the first checkpoint
 * shows; from then on the tables' own keys tell. What is not as expected (a record that stands already, a column that
 * is new) takes all of them back: they wait in stages then, like others, and so does what comes after them.
 */

import { sameType } from "../../core/shape/column-type.js";
import type { TableSchema } from "../../core/shape/table-shape.js";
import type { RowCounts } from "../row-counts.js";
import type { Committed, LoadOptions } from "../warehouse.js";
import type { StandingTable } from "./merge-plan.js";
import type { StageUse, StraightTarget } from "./stage.js";
import { isKeyed } from "./work.js";

/** The first checkpoint comes after so many rows then; tests make them few. */
export const STRAIGHT_RULE = { firstRows: 50_000 };

/** What a load needs of its server for it. */
export interface StraightPorts {
  /** the first checkpoint had better come soon: without it each row is written twice */
  readonly learnsSoon: boolean;
  /** The columns of which a table of the stream refuses the same values twice; undefined: rows have to go by stages. */
  primaryKey(table: string): Promise<readonly string[] | undefined>;
}

/** What a load knows of whether its rows may go straight. */
export class StraightWay {
  private state: "unknown" | "open" | "closed";
  private learning: Promise<void> = Promise.resolve();

  constructor(
    { write, notOver }: LoadOptions,
    private readonly ports: StraightPorts | undefined,
  ) {
    const isPossible = ports !== undefined && write.standing === "replaced" && notOver === undefined;
    this.state = isPossible ? "unknown" : "closed";
  }

  /** The first checkpoint is due by then. */
  get firstRows(): number | undefined {
    const isSoon = this.state === "unknown" && this.ports?.learnsSoon === true;
    return isSoon ? STRAIGHT_RULE.firstRows : undefined;
  }

  /** Waits until it is known, where that is under way. */
  known(): Promise<void> {
    return this.learning;
  }

  /** Where the rows of a table may go: into one that is there just as they need it. */
  useOf(
    table: TableSchema,
    standing: ReadonlyMap<string, StandingTable>,
    into: StraightTarget,
  ): Pick<StageUse, "straight"> {
    return { straight: this.state === "open" && standsAlike(table, standing) ? into : undefined };
  }

  /**
   * Learns from a checkpoint. Until that is done, rows of the next one are not taken: in a table that the last one may
   * still merge rows into, each would wait for the other.
   */
  learn(
    slot: { readonly isStraight: boolean },
    { flushed, committed }: { readonly flushed: Promise<void>; readonly committed: Promise<Committed> },
    table: string,
    root: TableSchema,
  ): void {
    const before = this.state;
    if (before === "closed") return;
    this.state = "closed";
    const wereNew = () => committed.then(({ counts }) => isNew(counts));
    const isOpen =
      before === "open"
        ? // where another column had them taken back, the table has it after the commit
          flushed.then(() => slot.isStraight || wereNew())
        : wereNew().then((found) => found && this.isSafe(table, root));
    this.learning = isOpen.then(
      (found) => {
        if (found) this.state = "open";
      },
      // what it fails with is told by itself
      () => {},
    );
  }

  /** Whether a record that comes again is refused. */
  private async isSafe(table: string, root: TableSchema): Promise<boolean> {
    const key = await this.ports?.primaryKey(table);
    if (key === undefined || !isKeyed(root)) return key !== undefined;
    return key.length === root.recordKey.length && key.every((name) => root.recordKey.includes(name));
  }
}

/** Whether a table is there, just as rows of a schema need it. */
export function standsAlike(
  { name, columns }: TableSchema,
  standing: ReadonlyMap<string, StandingTable>,
): boolean {
  const there = standing.get(name);
  return there !== undefined && columns.every((column) => sameType(there.get(column.name), column.type));
}

/** Of rows that were all new nothing else is told. */
export const isNew = ({ changed, unchanged, removed, doubled }: RowCounts) =>
  changed + unchanged + removed + doubled === 0;
