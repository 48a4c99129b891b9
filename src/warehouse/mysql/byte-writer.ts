/** Bytes that grow: texts, numbers and times are written into them without a text in between. */

const encoder = new TextEncoder();

const MICROS_A_DAY = 86_400_000_000;
/** Days from the year 0 of the calendar to 1970, and those of 400 years: their pattern repeats. */
const DAYS_TO_1970 = 719_468;
const DAYS_OF_400_YEARS = 146_097;
const [ZERO, MINUS, POINT, COLON, BLANK] = [48, 45, 46, 58, 32];
/** up to here the operations on whole numbers are those of the machine */
const MOST_INT32 = 2_147_483_647;

/** Days come again and again: the text of the last one of each place. */
const DAY_PLACES = 2048;
const DAY_BYTES = 10;
const NO_DAY = -MOST_INT32;

export class ByteWriter {
  /** bytes so far */
  size = 0;
  private bytes = new Uint8Array(64 * 1024);
  private encoded = new Uint8Array(4096);
  private readonly knownDays = new Int32Array(DAY_PLACES).fill(NO_DAY);
  private readonly dayTexts = new Uint8Array(DAY_PLACES * DAY_BYTES);

  /** All that was written; then it is empty again. */
  take(): Uint8Array {
    const all = this.bytes.slice(0, this.size);
    this.size = 0;
    return all;
  }

  /** A few bytes. */
  write(part: Uint8Array): void {
    const { length } = part;
    this.ensure(length);
    const { bytes, size } = this;
    for (let i = 0; i < length; i++) bytes[size + i] = part[i]!;
    this.size = size + length;
  }

  /** A text of ASCII alone, with nothing to escape. */
  ascii(text: string): void {
    const { length } = text;
    this.ensure(length);
    const { bytes, size } = this;
    for (let i = 0; i < length; i++) bytes[size + i] = text.charCodeAt(i);
    this.size = size + length;
  }

  /** A text in UTF-8; `escapes`: by byte, what stands behind `mark` in its place, 0 for the byte itself. */
  escapedText(text: string, escapes: Uint8Array, mark: number): void {
    if (this.encoded.length < text.length * 3) this.encoded = new Uint8Array(text.length * 3);
    const { written } = encoder.encodeInto(text, this.encoded);
    this.escaped(this.encoded, 0, written, escapes, mark);
  }

  escaped(from: Uint8Array, start: number, end: number, escapes: Uint8Array, mark: number): void {
    this.ensure((end - start) * 2);
    const { bytes } = this;
    let at = this.size;
    for (let i = start; i < end; i++) {
      const byte = from[i]!;
      const other = escapes[byte]!;
      if (other !== 0) bytes[at++] = mark;
      bytes[at++] = other === 0 ? byte : other;
    }
    this.size = at;
  }

  /** A whole number of up to 53 bits, divided by a power of ten: `scale` digits stand behind the point. */
  decimal(value: number, scale = 0): void {
    if (scale === 0 && value >= 0 && value <= MOST_INT32) {
      this.whole(value);
      return;
    }
    let rest = Math.abs(value);
    let digits = 1;
    for (let limit = 10; limit <= rest; limit *= 10) digits++;
    digits = Math.max(digits, scale + 1);
    this.ensure(digits + 2);
    if (value < 0) this.bytes[this.size++] = MINUS;
    const end = this.size + digits + (scale > 0 ? 1 : 0);
    for (let at = end - 1, place = 0; place < digits; place++) {
      if (place === scale && scale > 0) this.bytes[at--] = POINT;
      const next = Math.floor(rest / 10);
      this.bytes[at--] = ZERO + (rest - next * 10);
      rest = next;
    }
    this.size = end;
  }

  /** Mostly numbers are small. */
  private whole(value: number): void {
    let digits = 1;
    for (let limit = 10; limit <= value; limit *= 10) digits++;
    this.ensure(digits);
    this.digits(value, digits);
  }

  /** `2026-07-01`; days since 1970. False, and nothing written, for a year of other than four digits. */
  date(days: number): boolean {
    const place = days & (DAY_PLACES - 1);
    const { knownDays, dayTexts } = this;
    const from = place * DAY_BYTES;
    if (knownDays[place] !== days) {
      if (!this.newDate(days)) return false;
      knownDays[place] = days;
      dayTexts.set(this.bytes.subarray(this.size - DAY_BYTES, this.size), from);
      return true;
    }
    this.ensure(DAY_BYTES);
    const { bytes, size } = this;
    for (let i = 0; i < DAY_BYTES; i++) bytes[size + i] = dayTexts[from + i]!;
    this.size = size + DAY_BYTES;
    return true;
  }

  private newDate(days: number): boolean {
    // the year begins in March, so that its last day is the one that some years have not
    const day = days + DAYS_TO_1970;
    const era = Math.floor(day / DAYS_OF_400_YEARS);
    const ofEra = day - era * DAYS_OF_400_YEARS;
    const leaps = Math.floor(ofEra / 1460) - Math.floor(ofEra / 36_524) + Math.floor(ofEra / 146_096);
    const yearOfEra = Math.floor((ofEra - leaps) / 365);
    const ofYear = ofEra - (365 * yearOfEra + Math.floor(yearOfEra / 4) - Math.floor(yearOfEra / 100));
    const march = Math.floor((5 * ofYear + 2) / 153);
    const month = march < 10 ? march + 3 : march - 9;
    const year = era * 400 + yearOfEra + (month <= 2 ? 1 : 0);
    if (year < 0 || year > 9999) return false;
    this.ensure(DAY_BYTES);
    this.digits(year, 4);
    this.bytes[this.size++] = MINUS;
    this.digits(month, 2);
    this.bytes[this.size++] = MINUS;
    this.digits(ofYear - Math.floor((153 * march + 2) / 5) + 1, 2);
    return true;
  }

  /** `2026-07-01 10:00:00.5`; µs since 1970, up to 53 bits. False for a year of other than four digits. */
  time(micros: number): boolean {
    const days = Math.floor(micros / MICROS_A_DAY);
    if (!this.date(days)) return false;
    const ofDay = micros - days * MICROS_A_DAY;
    const seconds = Math.floor(ofDay / 1_000_000);
    this.ensure(16);
    this.bytes[this.size++] = BLANK;
    this.digits(Math.floor(seconds / 3600), 2);
    this.bytes[this.size++] = COLON;
    this.digits(Math.floor(seconds / 60) % 60, 2);
    this.bytes[this.size++] = COLON;
    this.digits(seconds % 60, 2);
    const fraction = ofDay - seconds * 1_000_000;
    if (fraction === 0) return true;
    this.bytes[this.size++] = POINT;
    this.digits(fraction, 6);
    while (this.bytes[this.size - 1] === ZERO) this.size--;
    return true;
  }

  /** So many digits of a number of 31 bits. */
  private digits(value: number, count: number): void {
    const { bytes, size } = this;
    let rest = value | 0;
    for (let at = size + count - 1; at >= size; at--) {
      const next = (rest / 10) | 0;
      bytes[at] = ZERO + (rest - next * 10);
      rest = next;
    }
    this.size = size + count;
  }

  private ensure(room: number): void {
    const needed = this.size + room;
    if (needed <= this.bytes.length) return;
    const longer = new Uint8Array(Math.max(this.bytes.length * 2, needed));
    longer.set(this.bytes.subarray(0, this.size));
    this.bytes = longer;
  }
}
