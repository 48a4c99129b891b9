// Serves the pages over loopback from memory, in a process of its own: GET /v2/bookings?after=TOKEN
import { createServer } from "node:http";
import { readPages } from "./pages.mjs";

const pages = readPages(process.argv[2]);
const server = createServer((request, response) => {
  const page = pages[Number(new URL(request.url, "http://x").searchParams.get("after") ?? 0)];
  response.writeHead(200, { "content-type": "application/json", "content-length": page.length });
  response.end(page);
});
server.listen(0, "127.0.0.1", () => process.send({ url: `http://127.0.0.1:${server.address().port}` }));
process.on("disconnect", () => process.exit(0));
