/** Starts a stand-in beside this process, so that it takes no time from the work that is measured or shown. */

import { fork } from "node:child_process";
import { fileURLToPath } from "node:url";
import type { BookingsOptions } from "./bookings/server.js";

export interface SpawnOptions extends BookingsOptions {
  /** the federation's other services as well */
  readonly neighbours?: boolean | undefined;
}

export interface SpawnedService {
  readonly url: string;
  readonly neighbours: { readonly url: string; readonly robotKeyFile: string } | undefined;
  close(): Promise<void>;
}

/** Rejects when the service ends before it listens (a port that is taken, say). */
export async function spawnService(options: SpawnOptions = {}): Promise<SpawnedService> {
  const script = fileURLToPath(new URL("../standins/serve.js", import.meta.url));
  const child = fork(script, [JSON.stringify(options)], { stdio: ["ignore", "ignore", "pipe", "ipc"] });
  let said = "";
  child.stderr?.on("data", (data) => {
    said += String(data);
  });
  const ended = new Promise<void>((resolve) => child.once("exit", () => resolve()));
  const started = await new Promise<Pick<SpawnedService, "url" | "neighbours">>((resolve, reject) => {
    child.once("message", (message) => resolve(message as SpawnedService));
    child.once("exit", () =>
      reject(new Error(`the service did not start: ${/Error: (.*)/.exec(said)?.[1] ?? said}`)),
    );
  });
  return {
    url: started.url,
    neighbours: started.neighbours,
    close: async () => {
      child.kill();
      await ended;
    },
  };
}
