/** The views of a bridge: made after its run, looked at before it. */

import { BridgeError, isBridgeError, toBridgeError } from "../core/errors.js";
import type {
  ViewOutcome,
  ViewPlace,
  ViewQueries,
  Warehouse,
  WarehouseSession,
} from "../warehouse/warehouse.js";

/** What became of the views, and the first failure among them. */
export interface MadeViews {
  readonly views: readonly ViewOutcome[];
  readonly error: BridgeError | undefined;
}

/** Makes a bridge's views. What fails is told; the rows are there all the same. */
export async function makeViewsOf(
  session: WarehouseSession,
  of: ViewPlace,
  queries: ViewQueries,
  atMs: number,
): Promise<MadeViews> {
  const { bridge, schema } = of;
  try {
    const views = await session.makeViews(of, queries, atMs);
    const failed = views.find(({ outcome }) => outcome === "failed");
    const message = failed && `View ${failed.view} could not be made: ${failed.problem}`;
    const where = { bridge, table: `${schema}.${failed?.view}` };
    return {
      views,
      error: message === undefined ? undefined : new BridgeError("VIEW_FAILED", message, { where }),
    };
  } catch (error) {
    return { views: [], error: toBridgeError(error, { bridge }) };
  }
}

/** What is looked at of a bridge. */
export interface BridgeViews {
  readonly name: string;
  readonly schema: string;
  readonly views: ViewQueries;
  readonly warehouse: Warehouse;
}

/** A view that a run would make. */
export interface ViewPlan {
  readonly view: string;
  /** what would keep it from being made, as its tables are now */
  readonly warnings: readonly string[];
}

/** The views that a run would make. The warehouse is only read, where there is one. */
export async function planViews({
  name: bridge,
  schema,
  views,
  warehouse,
}: BridgeViews): Promise<ViewPlan[]> {
  if (views.size === 0) return [];
  const plan = (warningsOf: (view: string) => readonly string[]) =>
    [...views.keys()].map((view) => ({ view: `${schema}.${view}`, warnings: warningsOf(view) }));
  try {
    const session = await warehouse.open({ readOnly: true });
    try {
      // before the first run there are no tables to look at
      if ((await session.ledger.runs({ bridge, limit: 1 })).length === 0) return plan(() => []);
      const problems = await session.checkViews({ bridge, schema }, views);
      return plan((view) => (problems.has(view) ? [`As its tables are now: ${problems.get(view)}`] : []));
    } finally {
      await session.close();
    }
  } catch (error) {
    if (isBridgeError(error, "WAREHOUSE_EMPTY")) return plan(() => []);
    throw error;
  }
}
