import { describe, expect, it } from "vitest";
import { oneQuery } from "./one-query.js";

describe("the query of a text", () => {
  it.each([
    ["SELECT 1", "SELECT 1"],
    ["\n SELECT 1 ;\n;\n-- the end\n", "SELECT 1"],
    [
      "-- nights\nSELECT ';' AS \";\" -- one;\n/* two; */",
      "-- nights\nSELECT ';' AS \";\" -- one;\n/* two; */",
    ],
    ["SELECT 'it''s;', $$;$$, $a$ $$ ; $a$", "SELECT 'it''s;', $$;$$, $a$ $$ ; $a$"],
  ])("is found in %j", (text, query) => {
    expect(oneQuery(text)).toBe(query);
  });

  it.each([
    ["", "no query"],
    [" -- later\n;", "no query"],
    ["SELECT 1; DROP TABLE huts.s", "more than one"],
    ["SELECT 1;;SELECT 2", "more than one"],
  ])("is missing or not alone in %j", (text, message) => {
    expect(() => oneQuery(text)).toThrow(message);
  });
});
