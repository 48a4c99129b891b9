// From a key to the screen: the example workbench with its answer of 5 MB, in Debian's Chromium.

import { execSync } from "node:child_process";
import { readFileSync } from "node:fs";
import { createServer } from "node:http";
import { extname, join } from "node:path";
import { fileURLToPath } from "node:url";
import { chromium } from "playwright-core";

const EXAMPLE = fileURLToPath(new URL("../examples/workbench", import.meta.url));
const TYPES = { ".html": "text/html", ".js": "text/javascript", ".css": "text/css" };
const FLAGS = ["--no-sandbox", "--disable-quic", "--disable-background-networking"];
const EDITS = 16;

/** In the page: how long after a key each change of the results is on the screen, in milliseconds. */
const WATCH = `
  window.looks = [];
  let keyAt = 0;
  addEventListener("keydown", () => { keyAt = performance.now(); }, true);
  new MutationObserver(() => {
    const at = keyAt;
    keyAt = 0;
    if (at > 0) requestAnimationFrame(() => setTimeout(() => window.looks.push(performance.now() - at)));
  }).observe(document.querySelector("[aria-label=results]"), { subtree: true, childList: true, characterData: true });
`;

/** Types a sign into a value that is shown, and takes it out again. */
async function measure(page, label, { pause, line }) {
  await page.evaluate("window.looks.length = 0");
  await page.getByLabel(label, { exact: true }).click();
  await page.keyboard.press("Control+Home");
  for (let i = 1; i < line; i++) await page.keyboard.press("ArrowDown");
  await page.keyboard.press("End");
  await page.keyboard.press("ArrowLeft");
  await page.waitForTimeout(1500);
  for (let i = 0; i < EDITS; i++) {
    await page.keyboard.press(i % 2 === 0 ? "1" : "Backspace");
    await page.waitForTimeout(pause);
  }
  await page.waitForTimeout(1500);
  const looks = (await page.evaluate("window.looks")).toSorted((a, b) => a - b);
  const at = (share) => Math.round(looks[Math.floor((looks.length - 1) * share)]);
  return `${looks.length} of ${EDITS} | ${at(0.5)} | ${at(1)}`;
}

const server = createServer((request, response) => {
  const path = join(EXAMPLE, "dist", request.url === "/" ? "index.html" : request.url);
  response.writeHead(200, { "content-type": TYPES[extname(path)] ?? "text/plain" }).end(readFileSync(path));
});

execSync("npm run build --silent", { cwd: EXAMPLE, stdio: ["ignore", "ignore", "inherit"] });
await new Promise((ready) => server.listen(0, "127.0.0.1", ready));
const browser = await chromium.launch({ executablePath: "/usr/bin/chromium", args: FLAGS });
try {
  const page = await browser.newPage({ viewport: { width: 1280, height: 800 } });
  await page.goto(`http://127.0.0.1:${server.address().port}/`);
  await page.getByText("60 records").waitFor();
  await page.getByRole("button", { name: "Samples" }).click();
  await page.getByRole("menuitem", { name: /thousands/ }).click();
  await page.getByText("7,500 records").waitFor();
  await page.evaluate(WATCH);
  console.log(
    "| an edit of 5 MB and its lines | seen | median ms | greatest ms |\n| --- | ---: | ---: | ---: |",
  );
  const places = [
    ["answer", 4],
    ["connector lines", 10],
  ];
  const ways = [
    ["one at a time", 1500],
    ["while the rest is being read", 350],
  ];
  for (const [label, line] of places)
    for (const [how, pause] of ways)
      console.log(`| ${label}, ${how} | ${await measure(page, label, { pause, line })} |`);
} finally {
  await browser.close();
  server.close();
}
