/** What a survey is asked for, and what it tells of each thing that can be carried. */

import type { EntitySet } from "../core/odata/model.js";
import type { Api } from "./api.js";

/** A column as it would be. */
export interface SurveyColumn {
  readonly path: string;
  /** as the API declares it, such as Edm.String; empty where it does not */
  readonly declared: string;
  /** undefined where what comes decides */
  readonly type: string | undefined;
  readonly description: string | undefined;
}

/** Something that can be carried, as far as the API, its description or the connector tells of it. */
export interface SurveyResource {
  /** the set's name; of a list, that of the stream that it is or would be */
  readonly name: string;
  /** list: an operation of a REST API · the others are OData's */
  readonly kind: EntitySet["kind"] | "list";
  /** of a list, where it is; undefined where only its name is known */
  readonly path: string | undefined;
  /** the stream that carries it; undefined where none does */
  readonly stream: string | undefined;
  readonly key: readonly string[];
  readonly columns: readonly SurveyColumn[];
  /** ways to other entities: the property, and their type */
  readonly navigation: readonly { readonly name: string; readonly to: string; readonly many: boolean }[];
  /** columns that may tell of changes, the likeliest first */
  readonly cursors: readonly string[];
  /** whether the service says that it gives delta links, which tell what is gone as well */
  readonly tracksChanges: boolean;
  /** how its pages follow each other, in words; undefined where nothing is known */
  readonly pages: string | undefined;
  /** scopes that it wants */
  readonly scopes: readonly string[];
  /** what has to be given for it, and no list gives */
  readonly missing: readonly string[];
  readonly description: string | undefined;
  /** rows, as the service counts them; undefined where that was not asked or not answered */
  readonly rows: number | undefined;
}

/** What is looked at. */
export interface SurveyOptions {
  readonly api: Api;
  /** only sets whose name, columns or description hold this word, in any case */
  readonly search?: string | undefined;
  /** only this one */
  readonly name?: string | undefined;
  /** an OpenAPI document of the API, parsed; default: what the connector names, else its own streams */
  readonly openApi?: unknown;
  /** ask for the rows of each set; default: where no more than 30 are found */
  readonly count?: boolean | undefined;
  readonly signal?: AbortSignal | undefined;
}
