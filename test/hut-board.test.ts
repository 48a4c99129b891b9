/** The hut-board example, in a real browser, over tables that a run has filled. */

import { execFileSync, spawn } from "node:child_process";
import { once } from "node:events";
import { existsSync } from "node:fs";
import { resolve } from "node:path";
import type { Browser } from "playwright-core";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { openBrowser, serious } from "./support/browser.js";
import { isLong } from "./support/long.js";
import { bookingsService, command, demoProject } from "./support/project.js";
import { queryFile } from "./support/truth.js";
import { whenDone } from "./support/when-done.js";

const EXAMPLE = resolve("examples/hut-board");

// the examples' packages are many: they are installed for the long tests only
describe.runIf(isLong)("the hut board", { timeout: 120_000 }, () => {
  let browser: Browser;
  beforeAll(async () => {
    execFileSync("node", ["prepare.mjs"], { cwd: EXAMPLE, stdio: "ignore" });
    execFileSync("npx", ["vite", "build"], { cwd: EXAMPLE, stdio: "ignore" });
    expect(existsSync(`${EXAMPLE}/early-bridge-demo/huts.duckdb`)).toBe(true);
    browser = await openBrowser();
  }, 400_000);
  afterAll(() => browser?.close());

  /** The board over a project of its own, whose service is up. */
  async function board() {
    const service = await bookingsService({ bookings: 300 });
    const project = demoProject(service.url);
    await command(["run", "bookings"], project.folder);
    const env = { ...process.env, HUT_BOARD_PROJECT: project.folder, PORT: "0" };
    const server = spawn(process.execPath, [`${EXAMPLE}/server.mjs`], { env });
    whenDone(() => server.kill());
    const [line] = (await once(server.stdout, "data")) as [Buffer];
    return { project, service, address: /http\S+/.exec(String(line))![0] };
  }

  it("shows what the tables hold, by hut and time, and a booking in both its forms", async () => {
    const { project, address } = await board();
    const page = await browser.newPage({ viewport: { width: 1280, height: 800 } });
    const faults: string[] = [];
    page.on("console", (message) => message.type() === "error" && faults.push(message.text()));
    page.on("pageerror", (error) => faults.push(error.message));
    await page.goto(address);
    await page.getByText("300 bookings").waitFor();
    const [hut] = await queryFile(
      project.database,
      "SELECT h.name, count(*)::INTEGER AS n FROM bookings.bookings JOIN bookings.huts h ON h.id = hut_id GROUP BY 1 ORDER BY 2 DESC LIMIT 1",
    );
    await page.getByRole("combobox", { name: "Hut" }).fill(String(hut?.name));
    await page.keyboard.press("ArrowDown");
    await page.keyboard.press("Enter");
    await page.getByText(`${hut?.n} bookings`, { exact: false }).waitFor();
    await page.getByLabel("From").fill("2030-01-01");
    await page.getByText("0 bookings").waitFor();
    await page.getByLabel("From").fill("");
    await page.getByRole("button", { name: /^HB-/ }).first().click();
    const forms = page.getByRole("region", { name: "one booking" });
    await forms.getByText("as the API gave it").waitFor();
    const text = await forms.textContent();
    expect(text).toMatch(/"lead_guest": \{\s+"name"/);
    expect(text).toContain('"lead_guest_name"');
    expect(faults).toEqual([]);
    await page.close();
  });

  it("runs the bridge, and shows how it goes and what has come", async () => {
    const { address, service } = await board();
    const page = await browser.newPage({ viewport: { width: 1280, height: 800 } });
    await page.goto(address);
    await page.getByText("300 bookings").waitFor();
    await fetch(`${service.url}/_tick`, { method: "POST" });
    await page.getByRole("button", { name: "Take the news" }).click();
    await page.getByText(/The run is done: [1-9]/).waitFor();
    await page.getByText(/30[1-9] bookings|31\d bookings/).waitFor();
    await page.close();
  });

  it.each(["light", "dark"] as const)(
    "can be used by everyone, %s and on a phone as well",
    async (colorScheme) => {
      const { address } = await board();
      for (const viewport of [
        { width: 1280, height: 800 },
        { width: 390, height: 844 },
      ]) {
        const page = await browser.newPage({ viewport, colorScheme });
        await page.goto(address);
        await page.getByText("300 bookings").waitFor();
        await page.getByRole("button", { name: /^HB-/ }).first().press("Enter");
        await page.getByRole("region", { name: "one booking" }).waitFor();
        expect(await serious(page)).toEqual([]);
        expect(await page.evaluate<number>("document.documentElement.scrollWidth")).toBeLessThanOrEqual(
          viewport.width,
        );
        await page.close();
      }
    },
  );
});
