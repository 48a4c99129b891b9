/** How pages are outlined in tests of the express reader. */

import type { OutlinePlan } from "../../src/core/express/outline.js";

/** A body that is a list of records with a field `id` that tells them apart. */
export const BY_ID: OutlinePlan = {
  form: "json",
  lists: [[]],
  fields: [["id"]],
  identity: [["id"]],
  required: [],
  hasRules: false,
  isStrict: false,
};
