/** The demo's last scene: what is gone, what changed its form, and a record that is mended. */

import { readFileSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import colors from "picocolors";
import { openProject } from "../node/project.js";
import { changeText } from "./change-text.js";
import { mendCommand } from "./mend-command.js";

/** How deliveries write weights, as it turns out. */
const RULE = 'Goods.amount: { type: "decimal(8,1)" }';
const MENDED_RULE = 'Goods.amount: { type: "decimal(8,1)", form: { thousands: "," } }';

/** Runs feedback a second time, tells what the journal has of drift, and mends the delivery that did not fit. */
export async function showRepair(project: string, signal: AbortSignal): Promise<void> {
  const opened = await openProject(project);
  say(colors.dim("── what is gone: guests take comments back, and the table follows ──\n"));
  const { bridge, close } = await opened.openBridge("feedback");
  const { streams, error } = await bridge.run({ signal }).finally(close);
  if (error !== undefined) throw error;
  const [{ added, changed, removed }] = streams as [(typeof streams)[0]];
  say(`feedback.comments: ${added} added, ${changed} changed, ${colors.yellow(`${removed} removed`)}\n`);

  say(colors.dim("── what changed its form: the journal of drift tells it ──\n"));
  const session = await (await opened.warehouse("local")).open({ readOnly: true });
  const changes = await session.ledger.changes({ bridge: "bookings" }).finally(() => session.close());
  const drift = changes.filter(({ change }) => change !== "table_added");
  for (const change of drift) say(`run ${change.run}  ${changeText(change, change.schema)}`);
  if (drift.length === 0) say("Nothing so far.");

  say(colors.dim("\n── what did not fit: it is kept in quarantine, the others went on ──\n"));
  await mendCommand("deliveries", { project });
  const file = join(project, "connectors/deliveries.connector.yaml");
  writeFileSync(file, readFileSync(file, "utf8").replace(RULE, MENDED_RULE));
  say(`\nThe connector's rule is put right: ${MENDED_RULE}`);
  say(`${colors.dim("$")} early-bridge mend deliveries --retry --project ${project}\n`);
  await mendCommand("deliveries", { project, retry: true });
  say("");
}

function say(text: string): void {
  process.stdout.write(`${text}\n`);
}
