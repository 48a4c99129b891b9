/** In front of each file of whole tests: modules are read once for many files, and hooks count for one. */

import { afterEach } from "vitest";
import { cleanUpAll } from "./when-done.js";

afterEach(cleanUpAll);
