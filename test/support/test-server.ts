/** A database server that tests run on. */

import type { Warehouse } from "../../src/warehouse/warehouse.js";

export type Row = Record<string, unknown>;
export type Query = (statement: string) => Promise<Row[]>;

/** A column as it is copied: its type is one of DuckDB's. */
export interface CopiedColumn {
  readonly name: string;
  readonly type: string;
}

/** A table or view of a server, to be copied. */
export interface CopiedTable {
  readonly schema: string;
  readonly name: string;
  readonly columns: readonly CopiedColumn[];
  /** gives all its rows in their order: texts, and bytes in hexadecimal digits */
  readonly query: string;
}

export interface TestServer {
  readonly title: string;
  /** its word in a project */
  readonly key: string;
  warehouse(url: string): Warehouse;
  /** an address where nothing is yet */
  fresh(): Promise<string>;
  /** Works by one connection; values are texts, booleans as such. */
  connected<T>(url: string, work: (query: Query) => Promise<T>): Promise<T>;
  tables(query: Query, url: string): Promise<CopiedTable[]>;
  /** A statement in which tables of `huts` and of the ledger have their names of that address. */
  named(url: string, statement: string): string;
  /** a value of JSON as the API gave it */
  json(text: string): string;
}
