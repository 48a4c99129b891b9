/** Which field of a record goes into which column of a table that stands: as the bridge says, else by their names. */

import { BridgeError } from "../errors.js";
import { fieldParts, formatPath } from "../shape/naming.js";
import { isManyStep } from "../shape/steps.js";
import type { ColumnRule } from "../shape/table-shape.js";
import { nameOfTable, type UserColumn, type UserTable } from "./user-table.js";

/** No column takes it; what lies below it may have one. */
const LEADS_ON: ColumnRule = Object.freeze({});
/** so many fields are named in a note */
const MOST_SHOWN = 8;
const NO_COLUMN: ColumnRule = Object.freeze({ skip: true });

export class ColumnMatch {
  /** what the bridge says: columns by the path of their field, as `formatPath` writes it */
  private readonly said = new Map<string, UserColumn>();
  /** the others, by their names without case and underscores; those of one such name are alike */
  private readonly named = new Map<string, UserColumn[]>();
  /** by column, the path of the field that goes into it by its name */
  private readonly taken = new Map<string, string>();
  /** by the path of their field, the columns that fields of records go into */
  private readonly found = new Map<string, UserColumn>();
  /** fields that no column takes */
  private readonly leftOut = new Set<string>();
  /** columns that the bridge names, and that are not there */
  readonly missing: readonly { readonly path: string; readonly column: string }[];

  constructor(
    readonly table: UserTable,
    said: Readonly<Record<string, string>>,
  ) {
    const missing: { path: string; column: string }[] = [];
    for (const [text, name] of Object.entries(said)) {
      const path = formatPath(fieldParts(text));
      const column = columnNamed(table, name);
      if (column === undefined) missing.push({ path, column: name });
      else this.said.set(path, column);
    }
    this.missing = missing;
    const claimed = new Set(this.said.values());
    for (const column of table.columns) {
      if (claimed.has(column) || column.isGenerated) continue;
      const name = plainName(column.name);
      this.named.set(name, [...(this.named.get(name) ?? []), column]);
    }
  }

  /** the paths that the bridge names a column for */
  get saidPaths(): readonly string[] {
    return [...this.said.keys()];
  }

  /** The column of a field; undefined where it has none. @throws BridgeError TABLE_MISMATCH */
  columnOf(parts: readonly string[], name?: string): UserColumn | undefined {
    if (parts.some(isManyStep)) return undefined;
    const path = formatPath(parts);
    const said = this.said.get(path);
    if (said !== undefined) return said;
    // what the bridge names lies within it, and is put in by itself
    if (this.isAboveSaid(path)) return undefined;
    const alike = this.named.get(name === undefined ? parts.map(plainName).join("") : plainName(name));
    if (alike === undefined) return undefined;
    const column =
      alike.length === 1 ? alike[0]! : alike.find((each) => each.name === (name ?? parts.at(-1)));
    if (column === undefined)
      throw this.unclear(`Field ${path} may go into ${alike.map((each) => each.name).join(" or ")}`, path);
    const other = this.taken.get(column.name);
    if (other !== undefined && other !== path)
      throw this.unclear(`Fields ${other} and ${path} both go by their names into ${column.name}`, path);
    this.taken.set(column.name, path);
    return column;
  }

  /** What is said of a field, with the column that it goes into. @throws BridgeError TABLE_MISMATCH */
  ruleOf(parts: readonly string[], rule: ColumnRule): ColumnRule {
    if (rule.skip === true) return rule;
    const into = this.columnOf(parts, rule.name);
    if (into === undefined) {
      if (this.leadsOn(parts)) return LEADS_ON;
      this.leftOut.add(formatPath(parts));
      return NO_COLUMN;
    }
    this.found.set(formatPath(parts), into);
    return { ...rule, as: undefined, type: rule.type ?? into.takes, into };
  }

  /** The column of a field that `ruleOf` was asked for. */
  columnAt(path: string): UserColumn | undefined {
    return this.found.get(path);
  }

  /** What there is to tell once all records have been seen. */
  notes(): readonly string[] {
    const name = nameOfTable(this.table);
    const unseen = this.saidPaths.filter((path) => !this.found.has(path));
    const left = [...this.leftOut];
    const shown = left.slice(0, MOST_SHOWN).join(", ");
    return [
      ...(unseen.length === 0
        ? []
        : [`No record has ${unseen.join(", ")}, which into.columns names: its column is left alone.`]),
      ...(left.length === 0
        ? []
        : [
            `${name} has no column for ${shown}${left.length > MOST_SHOWN ? ` and ${left.length - MOST_SHOWN} more` : ""}.`,
          ]),
    ];
  }

  private isAboveSaid(path: string): boolean {
    return this.saidPaths.some((each) => each.startsWith(`${path}.`) || each.startsWith(`${path}[`));
  }

  /** Whether a field below may have a column. */
  private leadsOn(parts: readonly string[]): boolean {
    if (parts.some(isManyStep)) return false;
    const begin = parts.map(plainName).join("");
    return (
      this.isAboveSaid(formatPath(parts)) || [...this.named.keys()].some((name) => name.startsWith(begin))
    );
  }

  private unclear(message: string, path: string): BridgeError {
    return new BridgeError("TABLE_MISMATCH", `${message} of ${nameOfTable(this.table)}.`, {
      where: { table: nameOfTable(this.table) },
      hint: `Say which, in the bridge's file: into: { columns: { ${path}: … } }.`,
    });
  }
}

/** A column by its name, as it is written or without regard to case and underscores. */
function columnNamed({ columns }: UserTable, name: string): UserColumn | undefined {
  const exact = columns.find((column) => column.name === name);
  if (exact !== undefined) return exact;
  const alike = columns.filter((column) => plainName(column.name) === plainName(name));
  return alike.length === 1 ? alike[0] : undefined;
}

/** A name without case, underscores and other signs. */
function plainName(text: string): string {
  return text
    .normalize("NFC")
    .toLowerCase()
    .replace(/[^\p{L}\p{M}\p{N}]+/gu, "");
}
