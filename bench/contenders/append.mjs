// early-bridge, every state of a record kept: one row behind the other.
import { measured } from "./report.mjs";
import { runBridge } from "./run-bridge.mjs";

await measured(() => runBridge({}, { write: "append" }));
