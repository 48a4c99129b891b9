/** What a database server says when it cannot be reached, is lost, or refuses a statement. */

import { BridgeError, isBridgeError } from "../../core/errors.js";

const AGAIN = "Run again when the server is there: it goes on from the last checkpoint.";
const ANY_HINT = "Check the warehouse's address, and the server's log.";

/** How the errors of a server's driver are read. */
export interface ServerWords {
  /** the server's kind */
  readonly title: string;
  /** the server, without user and password */
  readonly place: string;
  /** what to do, by the driver's code; undefined: nothing more is known */
  hintOf(error: Error): string | undefined;
  /** the connection is gone */
  isLoss(error: Error): boolean;
}

export class ServerErrors {
  constructor(private readonly words: ServerWords) {}

  /** No connection came about. */
  unreachable(error: unknown): BridgeError {
    if (isBridgeError(error)) return error;
    const { place } = this.words;
    const cause = error as NodeJS.ErrnoException;
    const hint = this.words.hintOf(cause) ?? (this.words.isLoss(cause) ? AGAIN : ANY_HINT);
    const said = sentence(cause.message || (cause.code ?? "it says nothing"));
    return new BridgeError("WAREHOUSE_UNREACHABLE", `${place} cannot be reached: ${said}`, { hint, cause });
  }

  /** A statement failed; `detail`: more that the server says. */
  failed(cause: Error, isLost: boolean, detail?: string): BridgeError {
    const { place, title } = this.words;
    if (isLost) {
      const message = `The connection to ${place} was lost: ${sentence(cause.message)}`;
      return new BridgeError("WAREHOUSE_UNREACHABLE", message, { hint: AGAIN, cause });
    }
    const said = detail === undefined ? cause.message : `${cause.message} (${detail})`;
    const hint = this.words.hintOf(cause);
    const told = `${title} refused a statement: ${sentence(said)}`;
    return new BridgeError("WAREHOUSE_FAILED", told, { cause, ...(hint !== undefined && { hint }) });
  }
}

const sentence = (text: string) => (/[.!?]$/.test(text) ? text : `${text}.`);
