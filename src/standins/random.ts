/** Seeded randomness: the same numbers on every run and every machine. */

/** A number from 0 to below 1 that depends on seed and index only (mulberry32's mixing step). */
export function randomAt(seed: number, index: number): number {
  let mixed = (seed * 0x9e3779b1 + index * 0x6d2b79f5 + 0x6d2b79f5) | 0;
  mixed = Math.imul(mixed ^ (mixed >>> 15), mixed | 1);
  mixed ^= mixed + Math.imul(mixed ^ (mixed >>> 7), mixed | 61);
  return ((mixed ^ (mixed >>> 14)) >>> 0) / 4294967296;
}

/** One of the choices, by seed and index. */
export function pickAt<T>(choices: readonly T[], seed: number, index: number): T {
  return choices[Math.floor(randomAt(seed, index) * choices.length)]!;
}
