/** Where things go in a picture: pure functions. */

export interface Axis {
  low: number;
  high: number;
  from: number;
  to: number;
}

/** Pixel of a value on a linear axis. */
export function pixel(value: number, axis: Axis): number {
  return axis.from + ((value - axis.low) / (axis.high - axis.low)) * (axis.to - axis.from);
}

/** Value at a pixel. */
export function valueAt(at: number, axis: Axis): number {
  return axis.low + ((at - axis.from) / (axis.to - axis.from)) * (axis.high - axis.low);
}

/** Round values between low and high, a step of 1, 2, 3, 6 or 12 decibels apart, at most `most`. */
export function decibelTicks(low: number, high: number, most: number): number[] {
  const step = [1, 2, 3, 6, 12, 24].find((s) => (high - low) / s <= most) ?? 24;
  const ticks = [];
  for (let value = Math.ceil(low / step) * step; value <= high + 1e-9; value += step) ticks.push(value);
  return ticks;
}

/** `0:46.214`. */
export function clock(position_s: number): string {
  const whole = Math.max(0, position_s);
  const minutes = Math.floor(whole / 60);
  return `${minutes}:${(whole - 60 * minutes).toFixed(3).padStart(6, '0')}`;
}
