// early-bridge, into a file of a form that not every program reads.
import { measured } from "./report.mjs";
import { runBridge } from "./run-bridge.mjs";

await measured(() => runBridge({}, { file: { storageVersion: "v1.3.0" } }));
