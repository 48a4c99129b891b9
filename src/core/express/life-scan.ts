/** What a scanned record's own row says of its life: the digest of its state, and since when it holds. */

import { parseExactJson } from "../shape/exact-json.js";
import { type Digest, digestOf } from "../shape/record-state.js";
import type { ScannableLife } from "../shape/shape.js";
import type { ColumnShape } from "../shape/table-shape.js";
import type { ColumnBuffers } from "./column-buffers.js";
import type { TableScan } from "./scan-plan.js";
import type { Sketch } from "./sketch.js";
import { StatePlaces } from "./state-places.js";
import type { WasmScan } from "./wasm-scan.js";

const decoder = new TextDecoder("utf-8", { ignoreBOM: true });

export class LifeScan {
  /** what tells states of a record apart, where several are kept */
  readonly identity: ColumnShape | undefined;
  /** where digests of states are asked for: what is known of the places in records */
  readonly places: StatePlaces | undefined;
  private readonly digests: ColumnBuffers | undefined;
  private readonly digest: Digest;
  private readonly begins:
    | { readonly into: ColumnBuffers; readonly of: NonNullable<ScannableLife["validFrom"]> }
    | undefined;
  /** fields that the last record was given, and what they are as an object */
  private news: Uint8Array | undefined;
  private given: Sketch = {};

  constructor({ state, stepsIn, digest, identity, validFrom }: ScannableLife, root: TableScan) {
    this.identity = identity;
    this.digests = state && root.columns.get(state);
    this.digest = digest ?? digestOf;
    this.places = this.digests && new StatePlaces(stepsIn);
    const times = identity && root.columns.get(identity);
    this.begins = times === undefined || validFrom === undefined ? undefined : { into: times, of: validFrom };
  }

  /** Whether rows say since when they hold. */
  get isTimed(): boolean {
    return this.begins !== undefined;
  }

  /** Puts the digest of the text that was written of a record. */
  putState(wasm: WasmScan, row: number, from: number, to: number): void {
    this.digests?.putText(wasm, row, this.digest(wasm.bytes.subarray(from, to)));
  }

  /**
   * Puts since when a record holds; false where it is for the plain reader. `sketch`: its fields that asking needs, the
   * cursor's among them; `news`: an object with fields that it has beside its own.
   */
  putTime(wasm: WasmScan, row: number, sketch: Readonly<Sketch>, news: Uint8Array | undefined): boolean {
    const { begins } = this;
    if (begins === undefined) return true;
    return begins.into.putJson(wasm, row, `"${begins.of(this.known(sketch, news))}"`);
  }

  private known(sketch: Readonly<Sketch>, news: Uint8Array | undefined): Readonly<Sketch> {
    if (news === undefined) return sketch;
    if (news !== this.news) {
      this.given = parseExactJson(decoder.decode(news)) as Sketch;
      this.news = news;
    }
    return { ...sketch, ...this.given };
  }
}
