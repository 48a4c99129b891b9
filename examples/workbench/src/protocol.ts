/** What the page and its worker say to each other. */

import type { FieldStats } from "early-bridge/core";

/** The one worker shows the begin of an answer at once; the other reads all of it when nothing is typed. */
export type Role = "first" | "whole";

export interface Ask {
  readonly id: number;
  /** whole, or as changes of the one before; left out: the one before */
  readonly answer?: { readonly whole: string } | { readonly changes: unknown } | undefined;
  readonly headers?: Readonly<Record<string, string>> | undefined;
  readonly connector: string;
  readonly stream: string | undefined;
}

/** A field, its values as texts. */
export interface ShownField {
  readonly path: string;
  readonly share: number;
  readonly types: string;
  readonly distinct: string;
  readonly least: string;
  readonly greatest: string;
  readonly frequent: readonly { readonly value: string; readonly times: number }[];
  readonly example: string;
}

export interface ShownTable {
  readonly name: string;
  readonly columns: readonly { readonly name: string; readonly type: string; readonly declared: boolean }[];
  readonly rows: readonly (readonly string[])[];
  readonly count: number;
}

export interface ShownDecision {
  readonly record: string;
  readonly kept: "kept" | "left out" | "not judged";
  readonly part: string;
  readonly values: string;
}

/** All of what is shown; `isWhole`: no more records are to come. */
export interface Shown {
  readonly stream: string;
  readonly streams: readonly string[];
  readonly received: number;
  readonly lookedAt: number;
  readonly leftOut: number;
  readonly tables: readonly ShownTable[];
  readonly fields: readonly ShownField[];
  readonly misfits: readonly { readonly message: string; readonly record: string }[];
  readonly misfitCount: number;
  readonly decisions: readonly ShownDecision[];
  readonly next: { readonly request: string } | { readonly end: string };
}

export interface Mistake {
  readonly message: string;
  readonly hint: string;
  /** in the connector lines, from 1 on; undefined where it is not in them */
  readonly line: number | undefined;
  readonly column: number | undefined;
}

export type Told =
  | { readonly id: number; readonly shown: Shown; readonly isWhole: boolean; readonly ms: number }
  | { readonly id: number; readonly mistake: Mistake };

export type { FieldStats };
