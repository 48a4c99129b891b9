/** A person who signs in to the demo's members. */

import { type CommandResult, startCommand, type TestProject } from "./project.js";

/** `login` with a person who opens the address: whoever does has signed in, and is led back. */
export function logIn(
  project: Pick<TestProject, "folder">,
  env: NodeJS.ProcessEnv,
  account = "members",
): Promise<CommandResult> {
  const running = startCommand(["login", account, "--no-browser"], project.folder, env);
  const watch = setInterval(() => {
    const address = /http:\S+\/authorize\?\S+/.exec(running.output())?.[0];
    if (address === undefined) return;
    clearInterval(watch);
    void fetch(address);
  }, 20);
  return running.ended;
}
