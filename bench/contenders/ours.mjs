// early-bridge into tables that are not there yet.
import { measured } from "./report.mjs";
import { runBridge } from "./run-bridge.mjs";

await measured(() => runBridge());
