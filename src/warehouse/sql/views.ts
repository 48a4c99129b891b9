/** Views of a project: made from its queries after a run, noted in the ledger, and ours from then on. */

import type { ViewOutcome, ViewPlace, ViewQueries } from "../warehouse.js";
import type { SqlConnection, SqlDialect } from "./dialect.js";
import { timestamp } from "./ledger-rows.js";
import { insertRows, ledgerSchema } from "./ledger-schema.js";
import { transaction } from "./transaction.js";
import type { SqlWork } from "./work.js";

/** A view that is to be made. */
interface View {
  readonly schema: string;
  readonly name: string;
  readonly query: string;
}

/** Views that could not be made, and why. */
type Problems = Map<View, string>;

/** On one line, without the query once more, which a warehouse may print behind an empty line. */
function messageOf(error: unknown): string {
  const [message = ""] = (error instanceof Error ? error.message : String(error)).split("\n\n");
  return message.replace(/\s+/g, " ").replace(/([^.!?])$/, "$1.");
}

/**
 * Makes views, and drops those that are no longer wanted. `connection`: one on which tables can be named by schema and
 * name alone.
 */
export async function makeViews(
  sql: SqlDialect,
  connection: SqlConnection,
  of: ViewPlace,
  queries: ViewQueries,
  atMs: number,
): Promise<ViewOutcome[]> {
  const { bridge, schema, run } = of;
  const ours = await ownViews(sql, connection, of);
  if (ours.size === 0 && queries.size === 0) return [];
  const gone = [...ours].filter((name) => !queries.has(name));
  for (const name of gone) await connection.run(`DROP VIEW IF EXISTS ${sql.tableName(schema, name)}`);
  const strange = await notOurs(sql, connection, schema, queries, ours);
  const views = [...queries].flatMap(([name, query]) => (strange.has(name) ? [] : [{ schema, name, query }]));
  if (views.length > 0) await connection.run(sql.makeSchema(schema));
  const problems = await createOrReplace(sql, connection, views);
  const made = views.filter((view) => !problems.has(view));
  await transaction(
    (statement) => connection.run(statement),
    async () => {
      for (const name of [...gone, ...made.map((view) => view.name)])
        await connection.run(
          `DELETE FROM ${ledgerSchema(sql)}.views WHERE bridge = $1 AND table_schema = $2 AND view_name = $3`,
          [bridge, schema, name],
        );
      const rows = made.map(({ name, query }) => [bridge, schema, name, query, run, timestamp(atMs)]);
      await insertRows(sql, connection, "views", rows);
    },
  );
  const outcomes: readonly ViewOutcome[] = [
    ...gone.map((view) => ({ view, outcome: "dropped" as const })),
    ...made.map(({ name }) => ({ view: name, outcome: "made" as const })),
    ...[...strange].map(([view, problem]) => ({ view, outcome: "failed" as const, problem })),
    ...[...problems].map(([{ name }, problem]) => ({ view: name, outcome: "failed" as const, problem })),
  ];
  return outcomes.toSorted((a, b) => (a.view < b.view ? -1 : 1));
}

/** What keeps views from being made now, by name. Each query is planned by the warehouse, and not run. */
export async function checkViews(
  sql: SqlDialect,
  connection: SqlConnection,
  of: Omit<ViewPlace, "run">,
  queries: ViewQueries,
): Promise<Map<string, string>> {
  const problems = await notOurs(sql, connection, of.schema, queries, await ownViews(sql, connection, of));
  for (const [name, query] of queries) {
    if (problems.has(name)) continue;
    await connection.rows(`EXPLAIN ${query}`, []).catch((error: unknown) => {
      problems.set(name, messageOf(error));
    });
  }
  return problems;
}

async function ownViews(
  sql: SqlDialect,
  connection: SqlConnection,
  { bridge, schema }: Omit<ViewPlace, "run">,
): Promise<Set<string>> {
  const rows = await connection.rows(
    `SELECT view_name FROM ${ledgerSchema(sql)}.views WHERE bridge = $1 AND table_schema = $2`,
    [bridge, schema],
  );
  return new Set(rows.map((row) => String(row.view_name)));
}

/** Names that something else has. */
async function notOurs(
  sql: SqlDialect,
  connection: SqlConnection,
  schema: string,
  queries: ViewQueries,
  ours: ReadonlySet<string>,
): Promise<Map<string, string>> {
  const rows = await connection.rows(
    // a server may give these names in capitals
    `SELECT table_name AS table_name, table_type AS table_type FROM information_schema.tables
     WHERE table_catalog = ${sql.ledger.catalog} AND table_schema = $1`,
    [sql.ledger.databaseOf?.(schema) ?? schema],
  );
  const found = rows.filter(
    (row) => queries.has(String(row.table_name)) && !ours.has(String(row.table_name)),
  );
  const problem = (kind: unknown) =>
    `A ${kind === "VIEW" ? "view" : "table"} of that name is there already, and is not of this bridge's making.`;
  return new Map(found.map((row) => [String(row.table_name), problem(row.table_type)]));
}

async function createOrReplace(
  sql: SqlDialect,
  connection: SqlConnection,
  views: readonly View[],
): Promise<Problems> {
  const create = (view: View) => connection.run(createStatement(sql, view, "OR REPLACE "));
  const problems = await inRounds(views, create);
  if (problems.size === 0 || sql.viewsHoldTypes !== true) return problems;
  // one whose columns are others now has to go first, and those that read it
  const anew = transaction(
    (statement) => connection.run(statement),
    async () => {
      await connection.run(dropStatement(sql, views));
      if ((await createApart(sql, connection, views)).size > 0) throw new Error("left as they are");
    },
  );
  return anew.then(
    () => new Map(),
    () => problems,
  );
}

/** Makes views one after the other; those that read others may have to wait for them. */
async function inRounds(views: readonly View[], make: (view: View) => Promise<void>): Promise<Problems> {
  let open = views;
  for (;;) {
    const problems: Problems = new Map();
    for (const view of open)
      await make(view).catch((error: unknown) => {
        problems.set(view, messageOf(error));
      });
    if (problems.size === 0 || problems.size === open.length) return problems;
    open = [...problems.keys()];
  }
}

/** The same inside of a transaction, which outlives what fails. */
function createApart(sql: SqlDialect, connection: SqlConnection, views: readonly View[]): Promise<Problems> {
  return inRounds(views, async (view) => {
    await connection.run("SAVEPOINT eb_view");
    try {
      await connection.run(createStatement(sql, view, ""));
    } catch (error) {
      await connection.run("ROLLBACK TO SAVEPOINT eb_view");
      throw error;
    }
  });
}

const createStatement = (sql: SqlDialect, { schema, name, query }: View, how: string) =>
  // a comment may be the last of it
  `CREATE ${how}VIEW ${sql.tableName(schema, name)} AS\n${query}\n`;

const dropStatement = (sql: SqlDialect, views: readonly View[]) =>
  `DROP VIEW IF EXISTS ${views.map(({ schema, name }) => sql.tableName(schema, name)).join(", ")}`;

/**
 * Takes all views of projects away, so that columns can change their types, inside of a transaction; what it gives puts
 * them back. One that the new types do not allow stays away: after the run it is tried again, and told of.
 */
export async function setViewsAside({ sql, connection }: SqlWork): Promise<() => Promise<void>> {
  const rows = await connection.rows(`SELECT table_schema, view_name, query FROM ${ledgerSchema(sql)}.views`);
  const views = rows.map(({ table_schema, view_name, query }) => ({
    schema: String(table_schema),
    name: String(view_name),
    query: String(query),
  }));
  if (views.length === 0) return async () => {};
  await connection.run(dropStatement(sql, views));
  return async () => {
    await createApart(sql, connection, views);
  };
}
