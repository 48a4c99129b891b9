/** The part of docs/tables.md that is made: a picture for each rule. */
export function rulesText(): string;
