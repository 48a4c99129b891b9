/** What a response means beyond its status: the connector's own rules, in CEL. Pure. */

import type { FailRuleDefinition } from "../define/ask-schema.js";
import { type Condition, compileCondition, holdsOrMissing } from "../language/condition.js";
import { compileJsonPath } from "../language/json-path.js";
import type { JsonPath } from "../language/plain-path.js";
import type { HeaderValues } from "../pace/limit-headers.js";

export interface FailRule {
  readonly when: Condition;
  readonly means: FailRuleDefinition["means"];
  readonly message: JsonPath | undefined;
  /** whether the rule looks into the body at all */
  readonly readsBody: boolean;
}

export interface Verdict {
  readonly means: FailRuleDefinition["means"];
  /** the rule, and the API's own words where they were found */
  readonly why: string;
}

export function compileFailRules(rules: readonly FailRuleDefinition[]): FailRule[] {
  return rules.map((rule) => ({
    when: compileCondition(rule.when, "response"),
    means: rule.means,
    message: rule.message === undefined ? undefined : compileJsonPath(rule.message),
    readsBody: /\bbody\b/.test(rule.when) || rule.message !== undefined,
  }));
}

/** What a rule compares with a value of another kind: it never holds. `body` as for `judge`. */
export function unlikeInRule(
  { when, readsBody }: FailRule,
  response: { readonly status: number; readonly headers: HeaderValues; readonly body: () => unknown },
): string | undefined {
  const { status, headers, body } = response;
  const unlike = when.unlike({ status, headers, body: readsBody ? body() : null });
  return unlike && `The rule ${when.text} can never hold: ${unlike}.`;
}

/** The first rule that holds; `body` is called once, and only where a rule looks into it. */
export function judge(
  rules: readonly FailRule[],
  response: { readonly status: number; readonly headers: HeaderValues; readonly body: () => unknown },
): Verdict | undefined {
  let tree: { readonly body: unknown } | undefined;
  for (const rule of rules) {
    if (rule.readsBody) tree ??= { body: response.body() };
    const values = { status: response.status, headers: response.headers, body: tree?.body ?? null };
    if (!holdsOrMissing(rule.when, values)) continue;
    const words = rule.message?.first(tree?.body);
    const why =
      typeof words === "string" && words !== "" ? words : `the connector's rule holds: ${rule.when.text}`;
    return { means: rule.means, why: why.length > 200 ? `${why.slice(0, 199)}…` : why };
  }
  return undefined;
}
