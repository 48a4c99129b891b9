/** What a scanned record's own row says of its life: its digest, and since when it holds. */

import { parseExactJson } from "../shape/exact-json.js";
import type { ScannableLife } from "../shape/shape.js";
import type { ColumnShape } from "../shape/table-shape.js";
import { ByteState } from "./byte-state.js";
import type { ColumnBuffers } from "./column-buffers.js";
import type { TableScan } from "./scan-plan.js";
import type { Sketch } from "./sketch.js";
import type { WasmScan } from "./wasm-scan.js";

/** A record in its page. */
export interface ScannedRecord {
  readonly bytes: Uint8Array;
  readonly from: number;
  readonly to: number;
  /** its fields that asking needs, the cursor's among them */
  readonly sketch: Readonly<Sketch>;
  /** an object with fields that it has beside its own */
  readonly news: Uint8Array | undefined;
}

const decoder = new TextDecoder("utf-8", { ignoreBOM: true });

export class LifeScan {
  /** what tells states of a record apart, where several are kept */
  readonly identity: ColumnShape | undefined;
  private readonly states: { readonly into: ColumnBuffers; readonly of: ByteState } | undefined;
  private readonly begins:
    | { readonly into: ColumnBuffers; readonly of: NonNullable<ScannableLife["validFrom"]> }
    | undefined;
  /** fields that the last record was given, and what they are as an object */
  private news: Uint8Array | undefined;
  private given: Sketch = {};

  constructor({ state, stepsIn, digest, identity, validFrom }: ScannableLife, root: TableScan) {
    this.identity = identity;
    const digests = state && root.columns.get(state);
    this.states = digests && { into: digests, of: new ByteState(stepsIn, digest) };
    const times = identity && root.columns.get(identity);
    this.begins = times === undefined || validFrom === undefined ? undefined : { into: times, of: validFrom };
  }

  /** whether rows say nothing of it: records then have the one state that came last */
  get isNone(): boolean {
    return this.states === undefined && this.begins === undefined;
  }

  /** False where the record is for the plain reader. */
  put(wasm: WasmScan, row: number, record: ScannedRecord): boolean {
    const { states, begins } = this;
    if (states !== undefined) {
      const digest = states.of.of(record.bytes, record.from, record.to, record.news);
      if (digest === undefined) return false;
      states.into.putText(wasm, row, digest);
    }
    if (begins === undefined) return true;
    return begins.into.putJson(wasm, row, `"${begins.of(this.known(record))}"`);
  }

  private known({ sketch, news }: ScannedRecord): Readonly<Sketch> {
    if (news === undefined) return sketch;
    if (news !== this.news) {
      this.given = parseExactJson(decoder.decode(news)) as Sketch;
      this.news = news;
    }
    return { ...sketch, ...this.given };
  }
}
