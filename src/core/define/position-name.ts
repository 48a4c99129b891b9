/** How templates call the place where a page begins. */

import type { PagesDefinition } from "./ask-schema.js";

/** The name by which templates ask for the position. */
export function positionName(pages: PagesDefinition): string | undefined {
  if (pages.token !== undefined) return "token";
  if (pages.number !== undefined) return "page";
  if (pages.offset !== undefined) return "offset";
  return pages.after === undefined ? undefined : "after";
}
