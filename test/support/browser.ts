/** Debian's Chromium for tests of the example pages. */

import { existsSync } from "node:fs";
import axe from "axe-core";
import { type Browser, chromium, type Page } from "playwright-core";
import { expect } from "vitest";

const CHROMIUM = "/usr/bin/chromium";
const FLAGS = [
  "--no-sandbox",
  "--disable-quic",
  "--disable-background-networking",
  "--disable-component-update",
];

export async function openBrowser(): Promise<Browser> {
  expect(existsSync(CHROMIUM), "Debian's package chromium").toBe(true);
  return chromium.launch({ executablePath: CHROMIUM, args: FLAGS });
}

/** What keeps somebody from using the page: axe's serious and critical findings, each with its first place. */
export async function serious(page: Page): Promise<string[]> {
  await page.addScriptTag({ content: axe.source });
  const { violations } = await page.evaluate(() => (globalThis as unknown as { axe: typeof axe }).axe.run());
  return violations
    .filter(({ impact }) => impact === "serious" || impact === "critical")
    .map(({ id, nodes }) => `${id}: ${nodes[0]?.html}`);
}
