/** The memory: a plan at its beginning, the page behind it, then the buffers of columns. Nothing is freed singly. */

/** Behind the end of a page so many zeros stand: what reads 16 bytes at a time needs no limit. */
export const BEHIND: usize = 64;

let heap: usize = __heap_base;

/** Where the next piece of memory begins. */
export function heapEnd(): usize {
  return heap;
}

/** All behind a place is free. */
export function releaseFrom(place: usize): void {
  heap = place;
}

/** A piece of memory: what stands in it is what was there before. */
export function allocate(length: usize): usize {
  const from = (heap + 15) & ~15;
  const end = from + length;
  const missing = <i32>((end + 0xffff) >>> 16) - memory.size();
  if (missing > 0 && memory.grow(missing) < 0) unreachable();
  heap = end;
  return from;
}

export function allocateZeros(length: usize): usize {
  const from = allocate(length);
  memory.fill(from, 0, length);
  return from;
}
