/** Carries what waits in a slot into its tables: doubles away, what is gone deleted or marked, the rest put in. */

import { sameType } from "../../core/shape/column-type.js";
import { DELETED_COLUMN, STATE_COLUMN } from "../../core/shape/own-columns.js";
import type { TableSchema } from "../../core/shape/table-shape.js";
import { addCounts, NO_ROWS, type RowCounts } from "../row-counts.js";
import { countLivingQuery, livesAgain, markStatement, withoutNewer, withoutStanding } from "./life-plan.js";
import {
  dedupeStatements,
  deleteStatement,
  lastWordStatements,
  readAs,
  type StandingTable,
} from "./merge-plan.js";
import { insertRows, type MergeTarget } from "./merge-target.js";
import type { Slot } from "./slot.js";
import type { Stage } from "./stage.js";
import { mergeStates, mergeVersions } from "./states.js";
import { takeUnchanged } from "./unchanged.js";
import { isKeyed, keyColumns, type Matches, NO_MATCHES, type SqlWork } from "./work.js";

/** What happened to rows of the stream's own table before the merge; `matches`: of what is left, where it is known. */
export interface Prepared extends Pick<RowCounts, "doubled" | "unchanged"> {
  readonly matches?: Matches | undefined;
}

/**
 * Leaves the last of what came of each record, a row or its removal; of records of which several states are kept, what
 * stands already goes. The stages may be in another database: their clean-up is a transaction of its own, before the
 * commit. `mayKeep`: whether rows that came again as they stand may be left alone.
 */
export async function prepareSlot(
  work: SqlWork,
  slot: Slot,
  target: MergeTarget,
  standing: ReadonlyMap<string, StandingTable>,
  mayKeep: () => Promise<boolean>,
): Promise<Prepared> {
  const [root] = target.tables;
  if (root === undefined || !isKeyed(root) || slot.isStraight) return { doubled: 0, unchanged: 0 };
  const stages = stagesOf(slot, root);
  const doubled = await dedupe(work, slot, stages, target);
  const before = standing.get(root.name);
  const [own] = stages;
  const isVersioned = target.write.standing === "versioned";
  if (own !== undefined && isVersioned)
    await work.run(work.sql.findable?.(own.sqlName, keyColumns(root)) ?? []);
  if (own === undefined || before === undefined) return { doubled, unchanged: 0 };
  const stands = readAs(work.sql, target.nameOf(root.name), root, before);
  if (target.write.standing === "replaced") {
    const { notOver } = target;
    if (notOver === undefined) {
      const compared = await compare(work, slot, stages, target, standing, mayKeep);
      return { ...compared, doubled };
    }
    await slot.writable();
    const { run, column } = notOver;
    const isComparable =
      column !== undefined && before.has(column) && root.columns.some(({ name }) => name === column);
    const newer = { run, column: isComparable ? column : undefined };
    const statements = withoutNewer(work.sql, namesOf(stages), stands, root.entityKey, newer);
    return { doubled, unchanged: await work.countLess(own.sqlName, statements) };
  }
  const columns = [...new Set([...root.recordKey, STATE_COLUMN])];
  // mostly nothing of what came stands, and the stages may stay as they are
  const shared = await work.countShared(own.sqlName, stands, isVersioned ? root.entityKey : columns);
  if (shared === 0) return { doubled, unchanged: 0 };
  await slot.writable();
  const now = work.sql.instant(target.loadedAtMs);
  if (isVersioned) await work.run(livesAgain(work.sql, stages, stands, now));
  const statements = withoutStanding(
    work.sql,
    namesOf(stages),
    stands,
    columns,
    isVersioned ? now : undefined,
  );
  const unchanged = await work.countLess(own.sqlName, statements);
  return { doubled, unchanged };
}

/** Compares what came with what stands; what is the same, children as well, is taken out. */
async function compare(
  work: SqlWork,
  slot: Slot,
  stages: readonly StagedTable[],
  { tables, nameOf, isThere }: MergeTarget,
  standing: ReadonlyMap<string, StandingTable>,
  mayKeep: () => Promise<boolean>,
): Promise<Omit<Prepared, "doubled">> {
  const there = tables.filter(({ name }) => isThere(name));
  const staged = new Map(stages.map((stage) => [stage.table.name, stage]));
  // what is to be changed before rows go in cannot be compared before that
  const isAsItStands = ({ name, columns }: TableSchema) =>
    columns.every((column) => sameType(standing.get(name)?.get(column.name), column.type));
  const isNew = [...staged.keys()].some((name) => !standing.has(name));
  if (isNew || !there.every(isAsItStands)) return { unchanged: 0 };
  const stageOf = ({ name }: TableSchema) => staged.get(name)?.sqlName;
  const compared = there.map((table) => ({
    table,
    target: nameOf(table.name),
    get stage() {
      return stageOf(table);
    },
  }));
  return takeUnchanged(work, compared, async () => {
    if (!(await mayKeep())) return false;
    // another name stands for each from here on
    await slot.writable();
    return true;
  });
}

interface StagedTable {
  /** another one once the stage is writable */
  readonly sqlName: string;
  readonly table: TableSchema;
}

const namesOf = (stages: readonly StagedTable[]) => stages.map(({ sqlName }) => sqlName);

/** The stages of rows, that of the stream's own table first; none where that has none. */
function stagesOf({ rows, tables }: Slot, root: TableSchema): StagedTable[] {
  const own = rows.get(root.name);
  if (own === undefined) return [];
  const staged = (stage: Stage): StagedTable => ({
    get sqlName() {
      return stage.sqlName;
    },
    table: tables.get(stage.table)!,
  });
  return [staged(own), ...[...rows.values()].filter((stage) => stage !== own).map(staged)];
}

async function dedupe(
  work: SqlWork,
  slot: Slot,
  stages: readonly StagedTable[],
  { write, tables }: MergeTarget,
): Promise<number> {
  const { recordKey, entityKey } = tables[0]!;
  const [root] = stages;
  const { removed } = slot;
  const cameTwice = root !== undefined && (await work.countDoubled(root.sqlName, recordKey)) > 0;
  const wentTwice = removed !== undefined && (await work.countDoubled(removed.sqlName, entityKey)) > 0;
  const bothCame = root !== undefined && removed !== undefined;
  if (!cameTwice && !wentTwice && !bothCame) return 0;
  await slot.writable();
  const [own, ...children] = namesOf(stages);
  const gone = removed?.sqlName;
  let doubled = 0;
  if (cameTwice && own !== undefined)
    doubled += await work.countLess(own, dedupeStatements(work.sql, [own, ...children], recordKey));
  if (wentTwice && gone !== undefined)
    doubled += await work.countLess(gone, dedupeStatements(work.sql, [gone], entityKey));
  if (own === undefined || gone === undefined) return doubled;
  const { removals, rows } = lastWordStatements(work.sql, own, children, gone, entityKey);
  doubled += await work.countLess(gone, removals);
  // a version that came before its record went has held all the same
  return write.standing === "versioned" ? doubled : doubled + (await work.countLess(own, rows));
}

/** What the merge of a slot changed in the stream's own table. To be called inside of a transaction. */
export async function mergeSlot(
  work: SqlWork,
  slot: Slot,
  target: MergeTarget,
  matches?: Matches,
): Promise<RowCounts> {
  const [root] = target.tables;
  const staged = root && slot.rows.get(root.name);
  if (root === undefined) return NO_ROWS;
  if (slot.isStraight) return { ...NO_ROWS, added: staged?.rows ?? 0 };
  const came = staged === undefined ? NO_ROWS : await mergeRows(work, slot, target, root, staged, matches);
  return addCounts(came, await mergeRemoved(work, slot, target, root));
}

function mergeRows(
  work: SqlWork,
  slot: Slot,
  target: MergeTarget,
  root: TableSchema,
  staged: Stage,
  matches: Matches | undefined,
) {
  if (!isKeyed(root) || target.write.standing === "replaced")
    return replaceRows(work, slot, target, root, staged, matches);
  const merge = target.write.standing === "versioned" ? mergeVersions : mergeStates;
  return merge(work, { slot, target, root, stage: staged.sqlName });
}

/** A record's rows take the place of those that stand. */
async function replaceRows(
  work: SqlWork,
  slot: Slot,
  target: MergeTarget,
  root: TableSchema,
  staged: Stage,
  known: Matches | undefined,
): Promise<RowCounts> {
  if (target.become.has(root.name)) {
    await insertRows(work, slot, target);
    return { ...NO_ROWS, added: await work.countRows(target.nameOf(root.name)) };
  }
  const { matched, unchanged } =
    known ??
    (isKeyed(root) ? await work.countMatches(staged.sqlName, target.nameOf(root.name), root) : NO_MATCHES);
  if (matched > 0) await deleteRecords(work, staged.sqlName, target);
  await insertRows(work, slot, target);
  const added = (await work.countRows(staged.sqlName)) - matched;
  return { ...NO_ROWS, added, changed: matched - unchanged, unchanged };
}

/** Removes the records that are gone, or marks them, children as well; one that does not stand changes nothing. */
async function mergeRemoved(
  work: SqlWork,
  { removed }: Slot,
  target: MergeTarget,
  root: TableSchema,
): Promise<RowCounts> {
  if (removed === undefined) return NO_ROWS;
  const told = await work.countRows(removed.sqlName);
  if (!target.isThere(root.name)) return { ...NO_ROWS, unchanged: told };
  const gone = { stage: removed.sqlName, key: root.entityKey };
  const marks = target.deletes === "mark";
  const hasMark = root.columns.some(({ name }) => name === DELETED_COLUMN);
  const name = target.nameOf(root.name);
  const living = await work.count(countLivingQuery(work.sql, name, root.entityKey, gone, marks && hasMark));
  if (living > 0 && !marks) await deleteRecords(work, removed.sqlName, target);
  if (living > 0 && marks) {
    const now = work.sql.instant(target.loadedAtMs);
    for (const table of target.tables.filter((each) => target.isThere(each.name)))
      await work.run([markStatement(work.sql, target.nameOf(table.name), table, gone, now)]);
  }
  return { ...NO_ROWS, removed: living, unchanged: told - living };
}

/** Deletes the rows of all records whose keys are in a stage. */
async function deleteRecords(work: SqlWork, stage: string, target: MergeTarget): Promise<void> {
  const { entityKey } = target.tables[0]!;
  for (const table of target.tables) {
    if (!target.isThere(table.name)) continue;
    const name = target.nameOf(table.name);
    await work.run([deleteStatement(work.sql, name, table.entityKey, stage, entityKey)]);
  }
}
