/** In front of each file of the suite on PostgreSQL: without a server it is skipped. */

import { beforeEach, inject } from "vitest";

beforeEach(({ skip }) => {
  if (inject("postgres") === undefined) skip("no PostgreSQL server");
});
