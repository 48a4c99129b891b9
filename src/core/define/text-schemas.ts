/** Small schemas that several parts of the connector file share. */

import { Temporal } from "temporal-polyfill";
import * as z from "zod";
import { type ConditionKind, compileCondition, compileExpression } from "../language/condition.js";
import { durationSign, isDuration, isFixedDuration } from "../language/duration.js";
import { compileJsonPath } from "../language/json-path.js";
import { templateFault } from "../language/template.js";
import { instantMicros } from "../shape/date-time.js";
import { parsePath } from "../shape/naming.js";
import { DURATION, FIXED_DURATION } from "./schema-facets.js";

export const nameText = z
  .string()
  .regex(/^[a-z][a-z0-9_]*$/, "must be lower-case letters, digits and _, beginning with a letter");

export const fieldPath = z
  .string()
  .refine((text) => parsePath(text) !== undefined, "must be a field's path, such as lead_guest.email")
  .meta({ minLength: 1 });

export const scalar = z.union([z.string(), z.number(), z.boolean()]);

/** A duration has a sign: what counts back in time is written without it. */
export const duration = z
  .string()
  .refine(
    (text) => durationSign(text) >= 0,
    "must be an ISO 8601 duration, such as PT30M, and not be negative",
  )
  .meta(DURATION);

export const fixedDuration = duration
  .refine(
    // what is none at all is told by the rule before
    (text) => !isDuration(text) || isFixedDuration(text),
    "must be in days or less: the length of months and years differs",
  )
  .meta(FIXED_DURATION);

const isLong = (text: string) => durationSign(text) !== 0;
const LONGER = "must be longer than nothing";
export const positiveDuration = duration.refine(isLong, LONGER);
export const positiveFixed = fixedDuration.refine(isLong, LONGER);

function isMoment(text: string): boolean {
  return isDuration(text) || !Number.isNaN(instantMicros(text));
}

export const moment = z
  .string()
  .refine(isMoment, "must be a time (RFC 3339), a date, or an ISO 8601 duration from now");

export const pastMoment = z
  .string()
  .refine(
    (text) => isMoment(text) && !(durationSign(text) > 0),
    "must be a time (RFC 3339), a date, or a duration before now such as -P90D",
  );

export function isZone(name: string): boolean {
  try {
    Temporal.Instant.fromEpochMilliseconds(0).toZonedDateTimeISO(name);
    return true;
  } catch {
    return false;
  }
}

function isJsonPath(text: string): boolean {
  try {
    compileJsonPath(text);
    return true;
  } catch {
    return false;
  }
}

export const jsonPathText = z
  .string()
  .refine(isJsonPath, "must be a JSONPath (RFC 9535), such as $.items[*]")
  .meta({ pattern: "^\\$" })
  .describe("A JSONPath, RFC 9535");

/** A CEL condition over a record or a response; what is wrong with it is part of the message. */
export function conditionText(kind: ConditionKind): z.ZodString {
  return celText((text) => compileCondition(text, kind));
}

/** A CEL expression over a record that gives a value. */
export const expressionText = celText(compileExpression);

function celText(compile: (text: string) => unknown): z.ZodString {
  return z
    .string()
    .superRefine((text, context) => {
      try {
        compile(text);
      } catch (error) {
        const words = (error as Error).message.split("\n")[0];
        context.addIssue({ code: "custom", message: `must be a CEL expression: ${words}` });
      }
    })
    .describe("An expression in CEL, the Common Expression Language");
}

/** Text with {setting} in it; the setting's value is put there as it is. */
export const filled = z.string().describe("A text in which {name} stands for a value");
/** For `superRefine`: text with names in braces, as RFC 6570 defines it. */
export function checkTemplate(text: string, context: z.RefinementCtx): void {
  const fault = templateFault(text);
  if (fault !== undefined)
    context.addIssue({ code: "custom", message: `must be a URI template (RFC 6570): ${fault}` });
}

export const urlTemplate = z
  .string()
  .superRefine(checkTemplate)
  .describe("An address; a URI template (RFC 6570) over the settings");
