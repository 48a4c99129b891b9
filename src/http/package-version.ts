/** The version of this package. */

import { readFileSync } from "node:fs";

export function packageVersion(): string {
  // two folders up from here, and from dist/parts
  const text = readFileSync(new URL("../../package.json", import.meta.url), "utf8");
  return (JSON.parse(text) as { version: string }).version;
}
