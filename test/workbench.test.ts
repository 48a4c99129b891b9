/** The workbench example, in a real browser. */

import { execFileSync } from "node:child_process";
import { existsSync, readFileSync } from "node:fs";
import { createServer } from "node:http";
import type { AddressInfo } from "node:net";
import { extname, join } from "node:path";
import type { Browser, Page } from "playwright-core";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { headOf } from "../examples/workbench/src/head.js";
import { openBrowser, serious } from "./support/browser.js";
import { isLong } from "./support/long.js";

const EXAMPLE = "examples/workbench";
const TYPES: Record<string, string> = { ".html": "text/html", ".js": "text/javascript", ".css": "text/css" };

describe("the begin of a long answer", () => {
  it("is JSON of its own, with whole items only", () => {
    const items = Array.from({ length: 50 }, (_, id) => ({ id, text: 'a "]}" b', kids: [{ n: 1 }] }));
    const text = JSON.stringify({ meta: { total: 50 }, items, next: "x" });
    for (let length = 0; length < text.length; length += 7) {
      const head = headOf(text, length);
      if (head === undefined) expect(length).toBeLessThan(100);
      else {
        const { items: some } = JSON.parse(head) as { items: object[] };
        expect(some).toEqual(items.slice(0, some.length));
      }
    }
    expect(headOf("[1, 2, 3]")).toBeUndefined();
    expect(headOf('{"a": "b')).toBeUndefined();
  });
});

// the examples' packages are many: they are installed for the long tests only
describe.runIf(isLong)("the workbench", { timeout: 120_000 }, () => {
  let browser: Browser;
  let address: string;
  const server = createServer((request, response) => {
    const path = join(
      EXAMPLE,
      "dist",
      new URL(request.url ?? "", "http://x").pathname.replace(/\/$/, "/index.html"),
    );
    if (!existsSync(path)) return void response.writeHead(404).end();
    response.writeHead(200, { "content-type": TYPES[extname(path)] ?? "text/plain" }).end(readFileSync(path));
  });

  beforeAll(async () => {
    execFileSync("npm", ["run", "build", "--silent"], { cwd: EXAMPLE, stdio: "ignore" });
    await new Promise<void>((ready) => server.listen(0, "127.0.0.1", ready));
    address = `http://127.0.0.1:${(server.address() as AddressInfo).port}/`;
    browser = await openBrowser();
  }, 300_000);
  afterAll(async () => {
    await browser?.close();
    server.close();
  });

  async function open(
    options: Parameters<Browser["newPage"]>[0] = { viewport: { width: 1280, height: 800 } },
  ) {
    const page = await browser.newPage(options);
    const faults: string[] = [];
    page.on("console", (message) => message.type() === "error" && faults.push(message.text()));
    page.on("pageerror", (error) => faults.push(error.message));
    page.on(
      "request",
      (request) => request.url().startsWith(address) || faults.push(`asked ${request.url()}`),
    );
    await page.goto(address);
    await page.getByText("60 records").waitFor();
    return { page, faults };
  }

  const lines = (page: Page) => page.getByLabel("connector lines");
  async function write(page: Page, text: string) {
    await lines(page).click();
    await page.keyboard.press("Control+a");
    await page.keyboard.insertText(text);
  }

  it("shows tables, fields, quarantine, decisions and the next request; each edit changes them", async () => {
    const { page, faults } = await open();
    await page.getByText("GET /bookings?per_page=500&after=cGFnZSAy").waitFor();
    await page.getByText("20 left out").waitFor();
    expect(await page.getByRole("region", { name: "rows of bookings", exact: true }).textContent()).toContain(
      "HB-0000000",
    );
    // hashed as the lines say: no address is shown
    expect(await page.getByLabel("results").textContent()).not.toContain("guest0@huts.example");
    await page.getByRole("tab", { name: "Fields" }).click();
    expect(await page.getByRole("region", { name: "fields", exact: true }).textContent()).toContain(
      "lead_guest.address.city",
    );
    await page.getByRole("tab", { name: "Where" }).click();
    await page.getByText("state = cancelled").first().waitFor();
    await write(
      page,
      "connector: b\napi: { url: https://x.huts.example }\nstreams:\n  b: { get: /b, records: '$.items[*]', kye: id }\n",
    );
    await page.getByRole("alert").getByText("Perhaps key is meant.").waitFor();
    await page.getByText("from before the mistake").waitFor();
    await write(
      page,
      "connector: b\napi: { url: https://x.huts.example }\nstreams:\n  b: { get: /b, records: '$.items[*]', key: id, columns: { hut_id: { type: date } } }\n",
    );
    await page.getByText("60 to quarantine").waitFor();
    await page.getByRole("tab", { name: "Quarantine" }).click();
    await page.getByText("hut_id is declared date, seen number 1").first().waitFor();
    expect(faults).toEqual([]);
    await page.close();
  });

  it("drafts lines, completes keys, and takes an answer of megabytes", async () => {
    const { page, faults } = await open();
    await page.getByRole("button", { name: "Draft" }).click();
    await page.getByText("# 60 objects, the only list").waitFor();
    await write(
      page,
      "connector: b\napi: { url: https://x.huts.example }\nstreams:\n  b:\n    get: /b\n    rec",
    );
    await page.keyboard.press("Control+Space");
    await page.getByRole("option", { name: "records" }).waitFor();
    await page.keyboard.press("Escape");
    await page.getByRole("button", { name: "Samples" }).click();
    await page.getByRole("menuitem", { name: /thousands/ }).click();
    await page.getByText("7,500 records").waitFor();
    await page.getByText("5,000 rows").waitFor();
    await page.getByText("the first 20 are shown").first().waitFor();
    await page.getByText("GET /bookings?per_page=500&after=cGFnZSAy").waitFor();
    expect(faults).toEqual([]);
    await page.close();
  });

  it.each(["light", "dark"] as const)(
    "can be used by everyone, %s and on a phone as well",
    async (colorScheme) => {
      for (const viewport of [
        { width: 1280, height: 800 },
        { width: 390, height: 844 },
      ]) {
        const { page, faults } = await open({ viewport, colorScheme });
        await page.getByRole("tab", { name: "Fields" }).press("Enter");
        expect(await serious(page)).toEqual([]);
        const width = await page.evaluate<number>("document.documentElement.scrollWidth");
        expect(width).toBeLessThanOrEqual(viewport.width);
        expect(faults).toEqual([]);
        await page.close();
      }
    },
  );
});
