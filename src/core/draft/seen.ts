/** What a draft is made from: responses that have been seen, and guesses with their reasons. */

/** A request for records, and what came back. */
export interface Seen {
  /** whole address, with its query */
  readonly url: string;
  /** by lower-case name */
  readonly headers: Readonly<Record<string, string | undefined>>;
  /** the response's JSON */
  readonly body: unknown;
}

/** Something that is not known for sure, with what speaks for it: it becomes the comment beside the line. */
export interface Guess<T> {
  readonly value: T;
  readonly why: string;
}
