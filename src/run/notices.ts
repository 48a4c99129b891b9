/** Notices of one stream: each kind is told some times as it comes, and then as a number at the end. */

/** Notices that differ in names and numbers only are of one kind: as many of them are told. */
const TOLD_OF_A_KIND = 3;

export class Notices {
  private readonly kinds = new Map<string, { readonly first: string; count: number }>();

  constructor(private readonly tell: (message: string) => void) {}

  add(message: string): void {
    const name = message.replaceAll(/\([^)]*\)|\d+/g, "#");
    const kind = this.kinds.get(name) ?? { first: message, count: 0 };
    this.kinds.set(name, kind);
    if (++kind.count <= TOLD_OF_A_KIND) this.tell(message);
  }

  /** Tells how many there were of the kinds that were not told in full. */
  close(): void {
    for (const { first, count } of this.kinds.values())
      if (count > TOLD_OF_A_KIND) this.tell(`${count - TOLD_OF_A_KIND} more like this one: ${first}`);
    this.kinds.clear();
  }
}
