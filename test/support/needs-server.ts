/** In front of each file of a suite on a server: without one it is skipped. */

import { beforeEach, inject } from "vitest";

beforeEach(({ skip }) => {
  if (inject("server") === undefined) skip("there is no server");
});
