// early-bridge, for all records again: each is compared with the one that stands, and put in its place.
import { measured } from "./report.mjs";
import { runBridge } from "./run-bridge.mjs";

const everything = { cursor: undefined };
await runBridge(everything);
await measured(() => runBridge(everything));
