/** A connector that is found out and not yet looked through: guesses with their reasons, and what is open. */

import type { BodyDefinition } from "../define/ask-schema.js";
import type { Guess } from "./seen.js";

/** How a column is kept, as a connector file writes it. */
export type ColumnRuleInput = Readonly<Record<string, string | boolean>>;

/** A body that asks for records. */
export type PostBody = Extract<BodyDefinition, { json: unknown } | { xml: string }>;

/** One stream of a draft. */
export interface DraftStream {
  readonly name: string;
  /** the API's own words */
  readonly description?: string | undefined;
  /** path below the API's address; or the `set` of an OData service */
  readonly get?: string | undefined;
  readonly set?: string | undefined;
  /** what is posted to `get`, where it is no GET; `{token}` in it stands for the next page's */
  readonly post?: Guess<PostBody> | undefined;
  readonly query?: Guess<Readonly<Record<string, string | number>>> | undefined;
  readonly each?: Guess<Readonly<Record<string, unknown>>> | undefined;
  /** fields put into each record */
  readonly add?: Guess<Readonly<Record<string, string>>> | undefined;
  readonly response?: Guess<unknown> | undefined;
  /** JSONPath */
  readonly records?: Guess<string> | undefined;
  readonly pages?: Guess<Readonly<Record<string, unknown>>> | undefined;
  readonly cursor?: Guess<Readonly<Record<string, unknown>>> | undefined;
  readonly key?: Guess<readonly string[]> | undefined;
  readonly columns: readonly {
    readonly path: string;
    readonly rule: ColumnRuleInput;
    readonly why: string;
  }[];
  /** what was not found out, each in a line */
  readonly open: readonly string[];
}

/**
 * The stream asked once for each value of what `each` names: the values stand in its records and in its key, for what
 * is different within one part need not be so in all of them.
 */
export function inParts(stream: DraftStream, each: NonNullable<DraftStream["each"]>): DraftStream {
  const parts = Object.keys(each.value);
  const add = {
    value: Object.fromEntries(parts.map((part) => [part, `{${part}}`])),
    why: "whose records they are",
  };
  const { key } = stream;
  const whole = key && {
    value: [...parts, ...key.value],
    why: `${key.why}, within one ${parts.join(" and ")}`,
  };
  return { ...stream, each, add, key: whole };
}

/** The streams that give it the values of its parts. */
export function parentNames({ each }: DraftStream): string[] {
  return Object.values(each?.value ?? {}).map((source) => (source as { readonly stream: string }).stream);
}

/** A connector file in the making. */
export interface Draft {
  readonly name: string;
  /** of the account: origin, and what all accounts' addresses share */
  readonly base: string;
  /** path that all streams have in common */
  readonly path: string;
  /** lines under `settings:` beside `base` */
  readonly settings: readonly string[];
  /** the value of `sign_in:` in YAML */
  readonly signIn: Guess<string>;
  readonly rateLimit: Guess<Readonly<Record<string, number>>>;
  readonly odata?: Guess<Readonly<Record<string, unknown>>> | undefined;
  readonly streams: readonly DraftStream[];
  /** what is said above all, each in a line */
  readonly said: readonly string[];
}
