/** Random records: nested JSON whose scalars are of one kind, for of several in one field texts are made. */

import fc from "fast-check";

const NUMBERS = fc.oneof(fc.integer(), fc.double({ noNaN: true, noDefaultInfinity: true }));
const TEXTS = fc.oneof(fc.string(), fc.constantFrom("2026-01-01", "1", "true", "null", "ä€😀"));

/** Records with such keys, as JSON.parse makes them: `__proto__` is a member. */
export function documentsOf(key: fc.Arbitrary<string>): fc.Arbitrary<Record<string, unknown>[]> {
  return fc
    .constantFrom<fc.Arbitrary<unknown>[]>(NUMBERS, TEXTS, fc.boolean())
    .chain((scalar) => {
      const { tree } = fc.letrec<{ tree: unknown; object: unknown }>((tie) => ({
        object: fc.dictionary(key, tie("tree"), { maxKeys: 5 }),
        tree: fc.oneof(
          { maxDepth: 5, depthSize: "small" },
          scalar,
          fc.constant(null),
          fc.array(tie("tree"), { maxLength: 4 }),
          tie("object"),
          fc.array(tie("object"), { maxLength: 3 }),
          fc.array(fc.array(tie("object"), { maxLength: 2 }), { maxLength: 2 }),
        ),
      }));
      return fc.array(fc.dictionary(key, tree, { maxKeys: 5 }), { minLength: 1, maxLength: 5 });
    })
    .map((made) => JSON.parse(JSON.stringify(made)) as Record<string, unknown>[]);
}
