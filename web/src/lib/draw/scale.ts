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

/** Bars and beats, counted from 1: `17.2.3` with sixteenths; a place a millisecond early counts as there. */
export function barsAndBeats(position_s: number, tempo_bpm: number, beatsInBar: number): string {
  const sixteenths = Math.floor((position_s * tempo_bpm * 4) / 60 + 0.005);
  const bar = Math.floor(sixteenths / (4 * beatsInBar));
  return `${bar + 1}.${(Math.floor(sixteenths / 4) % beatsInBar) + 1}.${(sixteenths % 4) + 1}`;
}

/** `0:46.214`. */
export function clock(position_s: number): string {
  const whole = Math.max(0, position_s);
  const minutes = Math.floor(whole / 60);
  return `${minutes}:${(whole - 60 * minutes).toFixed(3).padStart(6, '0')}`;
}

/** Nearest beat, for passages that are dragged. */
export function toBeat(position_s: number, tempo_bpm: number): number {
  const beat = 60 / tempo_bpm;
  return Math.round(position_s / beat) * beat;
}
