// Takes the pictures of the example pages, in Debian's Chromium, from what they are built to and the demo's data.
import { execSync, spawn } from "node:child_process";
import { once } from "node:events";
import { readFileSync } from "node:fs";
import { createServer } from "node:http";
import { extname, join, resolve } from "node:path";
import { chromium } from "playwright-core";

const TYPES = { ".html": "text/html", ".js": "text/javascript", ".css": "text/css" };
const FLAGS = [
  "--no-sandbox",
  "--disable-quic",
  "--disable-background-networking",
  "--disable-component-update",
];

const workbench = resolve("examples/workbench");
const board = resolve("examples/hut-board");
for (const cwd of [workbench, board])
  execSync("npm run build --silent", { cwd, stdio: ["ignore", "ignore", "inherit"] });
const server = createServer((request, response) => {
  const path = join(workbench, "dist", request.url === "/" ? "index.html" : request.url);
  response.writeHead(200, { "content-type": TYPES[extname(path)] ?? "text/plain" }).end(readFileSync(path));
});
await new Promise((ready) => server.listen(0, "127.0.0.1", ready));
const boardServer = spawn(process.execPath, [join(board, "server.mjs")], {
  env: { ...process.env, PORT: "0" },
});
const [said] = await once(boardServer.stdout, "data");
const browser = await chromium.launch({ executablePath: "/usr/bin/chromium", args: FLAGS });

/** A picture of a page, once a text is on it and something was done. */
async function picture(name, address, shown, options, act = async () => {}) {
  const page = await browser.newPage({ viewport: { width: 1280, height: 800 }, ...options });
  await page.goto(address);
  await page.getByText(shown).first().waitFor();
  await act(page);
  await page.waitForTimeout(500);
  await page.screenshot({ path: resolve(`docs/screenshots/${name}.png`) });
  console.log(`docs/screenshots/${name}.png`);
  await page.close();
}

try {
  const bench = `http://127.0.0.1:${server.address().port}/`;
  await picture("workbench", bench, "60 records", { colorScheme: "light" });
  await picture("workbench-dark", bench, "60 records", { colorScheme: "dark" }, (page) =>
    page.getByRole("tab", { name: "Fields" }).click(),
  );
  await picture("hut-board", /http\S+/.exec(String(said))[0], "EUR confirmed", { colorScheme: "light" });
} finally {
  await browser.close();
  server.close();
  boardServer.kill();
}
