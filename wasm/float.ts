/** The float64 that digits stand for, where they are what JavaScript writes it as (ECMA-262, Number::toString). */

const POWERS = memory.data<f64>([
  1, 1e1, 1e2, 1e3, 1e4, 1e5, 1e6, 1e7, 1e8, 1e9, 1e10, 1e11, 1e12, 1e13, 1e14, 1e15, 1e16, 1e17, 1e18, 1e19,
  1e20, 1e21, 1e22, 1e23, 1e24, 1e25, 1e26, 1e27, 1e28, 1e29, 1e30, 1e31, 1e32, 1e33, 1e34, 1e35, 1e36, 1e37,
  1e38,
]);

/** A power of ten; up to 22 it is exact. */
export function power(exponent: i32): f64 {
  return load<f64>(POWERS + ((<usize>exponent) << 3));
}

const EXACT_POWERS = 22;
/** From there on they are 16 digits, up to there 17. */
const SIXTEEN: i64 = 1_000_000_000_000_000;
const OVER: i64 = 100_000_000_000_000_000;
/** Smaller ones are written with an exponent. */
const SMALLEST = 1e-6;
/** What is as near as that, in units of the last place, to the middle between two float64 is not told here. */
const DOUBT = 1e-6;

/** by how much the last quotient is larger than the float64 that it was rounded to */
let rest: f64 = 0;

/** `digits` / 10 ** `behind`, a fraction of 16 or 17 digits in its shortest form; 0 where that is not certain. */
export function shortestFloat(digits: i64, behind: i32): f64 {
  if (digits < SIXTEEN || digits >= OVER || digits % 10 === 0) return 0;
  if (behind === 0 || behind > EXACT_POWERS) return 0;
  const value = quotient(digits, behind);
  if (value < SMALLEST || trunc(value) === value) return 0;
  // of all that have as many digits it is to be the nearest
  if (abs(rest) * power(behind) > 0.49) return 0;
  // and none of fewer digits may stand for the same: those on both sides are the nearest
  const fewer = digits / 10;
  return mayBe(value, fewer, behind - 1) || mayBe(value, fewer + 1, behind - 1) ? 0 : value;
}

/** Whether digits may stand for a value; of 15 it is certain. */
function mayBe(value: f64, digits: i64, behind: i32): bool {
  if (digits <= SIXTEEN) return <f64>digits / power(behind) === value;
  const other = quotient(digits, behind);
  return other === 0 || other === value;
}

/**
 * The quotient rounded to the nearest, 0 where that is in doubt: a first one is divided out, its remainder found
 * without loss (Dekker 1971), and its share added.
 */
function quotient(digits: i64, behind: i32): f64 {
  const divisor = power(behind);
  const high = <f64>digits;
  const low = <f64>(digits - <i64>high);
  const first = high / divisor;
  const share = (remainder(high, first, divisor) + low) / divisor;
  const value = first + share;
  rest = share - (value - first);
  const half = (reinterpret<f64>(reinterpret<i64>(value) + 1) - value) * 0.5;
  return abs(abs(rest) - half) < half * DOUBT ? 0 : value;
}

/** high - first * divisor */
function remainder(high: f64, first: f64, divisor: f64): f64 {
  const product = first * divisor;
  const a = upper(first);
  const b = first - a;
  const c = upper(divisor);
  const d = divisor - c;
  const error = a * c - product + a * d + b * c + b * d;
  return high - product - error;
}

/** The upper half of a number's digits (Veltkamp). */
function upper(value: f64): f64 {
  const scaled = value * 134_217_729;
  return scaled - (scaled - value);
}
