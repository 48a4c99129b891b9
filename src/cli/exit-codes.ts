/** Exit codes: a script can tell what kind of thing went wrong. */

import type { ErrorKind } from "../core/errors.js";

export const EXIT_CODES: Readonly<Record<ErrorKind | "done", number>> = Object.freeze({
  done: 0,
  internal: 1,
  config: 2,
  sign_in: 3,
  api: 4,
  data: 5,
  warehouse: 6,
  incomplete: 7,
  limit: 8,
  stopped: 130,
});

export const EXIT_CODE_HELP = `
Exit codes:
  0  done                       5  the API's data is not as the connector says
  1  a fault of early-bridge    6  the warehouse failed
  2  configuration, usage       7  incomplete: rows may be missing, the cursor stays
  3  sign-in was refused        8  the API's limit is used up: run again later
  4  the API or network failed  130  stopped on request, at a checkpoint`;
