/** The demo's project: connectors, bridges.yaml and .env in a folder of the user's. */

import { cpSync, readdirSync, readFileSync, writeFileSync } from "node:fs";
import { dirname, join, relative, resolve } from "node:path";
import { fileURLToPath } from "node:url";
import { PROJECT_FILE } from "../node/project.js";
import { demoEnvironment, envFileText } from "../standins/demo-environment.js";
import type { SpawnedService } from "../standins/spawn.js";

const OWN_WAREHOUSE = "{ duckdb: ./huts.duckdb }";

/** Puts the demo's project into its folder; `to`: a warehouse that takes the place of the DuckDB file. */
export function writeDemoProject(
  folder: string,
  { url, neighbours }: SpawnedService,
  to: string | undefined,
): void {
  const source = fileURLToPath(new URL("../../demo", import.meta.url));
  cpSync(source, folder, { recursive: true });
  // editors find the schemas by a path from the file: here the package may be elsewhere than in its own folder
  const schemas = fileURLToPath(new URL("../../schemas", import.meta.url));
  const connectors = readdirSync(join(folder, "connectors")).map((name) => join("connectors", name));
  for (const file of [PROJECT_FILE, ...connectors]) {
    const path = join(folder, file);
    const text = readFileSync(path, "utf8");
    writeFileSync(path, text.replace(/\$schema=.*schemas/, `$schema=${relative(dirname(path), schemas)}`));
  }
  const place = to === undefined ? undefined : placeOf(to);
  if (place !== undefined) {
    const path = join(folder, PROJECT_FILE);
    let text = readFileSync(path, "utf8").replace(OWN_WAREHOUSE, `{ ${place.key}: $WAREHOUSE_URL }`);
    if (!place.hasViews) text = text.replace(/^ +views: .*\n/m, "");
    writeFileSync(path, text);
  }
  // the other services are up with --serve only
  const environment = demoEnvironment(url, neighbours?.url ?? "http://127.0.0.1:4181");
  const whole = place === undefined ? environment : { ...environment, WAREHOUSE_URL: place.address };
  writeFileSync(join(folder, ".env"), envFileText(whole), { mode: 0o600 });
  if (neighbours !== undefined) {
    writeFileSync(join(folder, "robot-key.json"), neighbours.robotKeyFile, { mode: 0o600 });
  }
}

/** What `bridges.yaml` calls a warehouse, and whether the demo's views are in its own SQL. */
function placeOf(to: string) {
  if (/^postgres(ql)?:/.test(to)) return { key: "postgres", address: to, hasViews: true };
  const [key] = /^(?:mariadb|mysql)(?=:)/.exec(to) ?? [];
  if (key !== undefined) return { key, address: to, hasViews: false };
  return { key: "folder", address: /^[a-z0-9]+:\/\//.test(to) ? to : resolve(to), hasViews: false };
}
