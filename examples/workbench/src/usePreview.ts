/** The worker's latest word on answer and lines. */

import { useEffect, useRef, useState } from "react";
import type { Ask, Mistake, Shown, Told } from "./protocol.js";

export interface PreviewState {
  /** the last that could be read; stays while lines are being mended */
  readonly shown: Shown | undefined;
  readonly mistake: Mistake | undefined;
  readonly isWhole: boolean;
  readonly ms: number;
}

const NOTHING: PreviewState = { shown: undefined, mistake: undefined, isWhole: true, ms: 0 };

export function usePreview(answer: string, connector: string, stream: string | undefined): PreviewState {
  const worker = useRef<Worker | undefined>(undefined);
  const sent = useRef({ id: 0, answer: undefined as string | undefined });
  const [state, setState] = useState(NOTHING);

  useEffect(() => {
    const made = new Worker(new URL("./worker.ts", import.meta.url), { type: "module" });
    made.onmessage = ({ data }: MessageEvent<Told>) => {
      if (data.id !== sent.current.id) return;
      if ("mistake" in data) setState((before) => ({ ...before, mistake: data.mistake, isWhole: true }));
      else setState({ shown: data.shown, mistake: undefined, isWhole: data.isWhole, ms: data.ms });
    };
    worker.current = made;
    sent.current.answer = undefined;
    return () => made.terminate();
  }, []);

  useEffect(() => {
    const { current } = sent;
    const ask: Ask = {
      id: ++current.id,
      connector,
      stream,
      ...(current.answer === answer ? {} : { answer }),
    };
    current.answer = answer;
    worker.current?.postMessage(ask);
  }, [answer, connector, stream]);

  return state;
}
