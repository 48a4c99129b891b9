/** A run of the bridge, followed by its events. */

import { useState } from "react";

interface RunEvent {
  readonly type: string;
  readonly stream?: string;
  readonly rows?: number;
  readonly message?: string;
  readonly outcome?: string;
}

export interface RunState {
  readonly isRunning: boolean;
  /** the last thing that happened, in words */
  readonly words: string;
  readonly start: () => void;
}

export function useRun(onEnd: () => void): RunState {
  const [state, setState] = useState({ isRunning: false, words: "" });
  const start = () => {
    setState({ isRunning: true, words: "The bridge starts." });
    const source = new EventSource("/api/run");
    let rows = 0;
    source.onmessage = ({ data }: MessageEvent<string>) => {
      const event = JSON.parse(data) as RunEvent;
      rows += event.type === "page" ? (event.rows ?? 0) : 0;
      const ended = event.type === "run_ended" || event.type === "failed";
      setState({ isRunning: !ended, words: wordsOf(event, rows) });
      if (!ended) return;
      source.close();
      onEnd();
    };
    source.onerror = () => {
      source.close();
      setState(({ words }) => ({ isRunning: false, words }));
    };
  };
  return { ...state, start };
}

function wordsOf({ type, stream, message, outcome }: RunEvent, rows: number): string {
  const counted = `${rows.toLocaleString("en-US")} rows`;
  if (type === "run_ended") return `The run is ${outcome}: ${counted}.`;
  if (type === "failed" || type === "notice") return message ?? type;
  return `${stream ?? "run"}: ${type.replaceAll("_", " ")}, ${counted}`;
}
