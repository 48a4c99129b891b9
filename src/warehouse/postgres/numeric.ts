/** Decimals in the binary form of PostgreSQL's NUMERIC: digits to the base 10,000, the point between two of them. */

const BASE = 10_000;
const GROUP = 4;
const [POSITIVE, NEGATIVE] = [0x0000, 0x4000];
/** so many digits behind the point are computed in float64 without loss */
const MOST_FAST_SCALE = 12;
const POWERS = Array.from({ length: 16 }, (_, n) => 10 ** n);
const digits = new Uint16Array(24);

/**
 * Writes the unscaled integer of a row, 8 or 16 bytes of it, with so many digits behind the point. Gives the bytes that
 * it took.
 */
export function writeNumeric(
  view: DataView,
  at: number,
  from: DataView,
  row: number,
  isWide: boolean,
  scale: number,
): number {
  const high = isWide ? 0 : from.getInt32(row * 8 + 4, true);
  const isFast = !isWide && scale <= MOST_FAST_SCALE && high >= -0x200000 && high < 0x200000;
  if (isFast) {
    const value = high * 4_294_967_296 + from.getUint32(row * 8, true);
    return write(view, at, value < 0, fastGroups(Math.abs(value), scale), scale);
  }
  const value = isWide
    ? (from.getBigInt64(row * 16 + 8, true) << 64n) | from.getBigUint64(row * 16, true)
    : from.getBigInt64(row * 8, true);
  return write(view, at, value < 0n, slowGroups(value < 0n ? -value : value, scale), scale);
}

/** Fills `digits`, the lowest first; gives how many there are. */
function fastGroups(value: number, scale: number): number {
  const power = POWERS[scale]!;
  let fraction = value % power;
  let whole = (value - fraction) / power;
  fraction *= POWERS[fractionGroups(scale) * GROUP - scale]!;
  let count = 0;
  for (; count < fractionGroups(scale); count++) {
    digits[count] = fraction % BASE;
    fraction = Math.floor(fraction / BASE);
  }
  for (; whole > 0; count++) {
    digits[count] = whole % BASE;
    whole = Math.floor(whole / BASE);
  }
  return count;
}

function slowGroups(value: bigint, scale: number): number {
  let rest = value * 10n ** BigInt(fractionGroups(scale) * GROUP - scale);
  let count = 0;
  for (; rest > 0n || count < fractionGroups(scale); count++) {
    digits[count] = Number(rest % 10_000n);
    rest /= 10_000n;
  }
  return count;
}

const fractionGroups = (scale: number) => Math.ceil(scale / GROUP);

function write(view: DataView, at: number, isNegative: boolean, groups: number, scale: number): number {
  let count = groups;
  while (count > 0 && digits[count - 1] === 0) count--;
  const weight = count - fractionGroups(scale) - 1;
  let lowest = 0;
  while (lowest < count && digits[lowest] === 0) lowest++;
  view.setInt16(at, count - lowest);
  view.setInt16(at + 2, count === 0 ? 0 : weight);
  view.setUint16(at + 4, isNegative && count > 0 ? NEGATIVE : POSITIVE);
  view.setInt16(at + 6, scale);
  let to = at + 8;
  for (let i = count - 1; i >= lowest; i--, to += 2) view.setUint16(to, digits[i]!);
  return to - at;
}
