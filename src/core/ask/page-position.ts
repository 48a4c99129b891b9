/** Where pages begin: plain JSON, kept in the ledger so that a broken-off pass goes on there. */

/** Where a page begins. */
export type PagePosition =
  | { readonly at: "start"; readonly size?: number | undefined }
  | { readonly at: "token"; readonly token: string; readonly size?: number | undefined }
  | { readonly at: "link"; readonly link: string; readonly size?: undefined }
  | { readonly at: "number"; readonly number: number; readonly size?: number | undefined }
  | { readonly at: "offset"; readonly offset: number; readonly size?: number | undefined }
  | { readonly at: "after"; readonly after: string; readonly size?: number | undefined };

export type NextPage =
  | PagePosition
  | {
      readonly at: "end";
      /** the API gives no more pages, and there is more */
      readonly cut?: true | undefined;
      /** a total says that this is the end, and a full page that it may not be: this place is worth a look */
      readonly unless?: PagePosition | undefined;
    };

/** What follows a page, or a piece of one: `within` is the rest of the same answer. */
export type Sequel = NextPage | { readonly at: "within" };
