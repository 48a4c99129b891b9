// Takes the pictures of the example pages, in Debian's Chromium, from what they are built to.
import { execSync } from "node:child_process";
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

const example = resolve("examples/workbench");
execSync("npm run build --silent", { cwd: example, stdio: ["ignore", "ignore", "inherit"] });
const server = createServer((request, response) => {
  const path = join(example, "dist", request.url === "/" ? "index.html" : request.url);
  response.writeHead(200, { "content-type": TYPES[extname(path)] ?? "text/plain" }).end(readFileSync(path));
});
await new Promise((ready) => server.listen(0, "127.0.0.1", ready));
const browser = await chromium.launch({ executablePath: "/usr/bin/chromium", args: FLAGS });
try {
  const picture = async (name, options, act) => {
    const page = await browser.newPage({ viewport: { width: 1280, height: 800 }, ...options });
    await page.goto(`http://127.0.0.1:${server.address().port}/`);
    await page.getByText("60 records").waitFor();
    await act(page);
    await page.waitForTimeout(300);
    await page.screenshot({ path: resolve(`docs/screenshots/${name}.png`) });
    console.log(`docs/screenshots/${name}.png`);
    await page.close();
  };
  await picture("workbench", { colorScheme: "light" }, async () => {});
  await picture("workbench-dark", { colorScheme: "dark" }, async (page) => {
    await page.getByRole("tab", { name: "Fields" }).click();
  });
} finally {
  await browser.close();
  server.close();
}
