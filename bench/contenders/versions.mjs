// early-bridge, every state of a record kept: each with the times from and to which it held.
import { measured } from "./report.mjs";
import { runBridge } from "./run-bridge.mjs";

await measured(() => runBridge({}, { write: "versions" }));
