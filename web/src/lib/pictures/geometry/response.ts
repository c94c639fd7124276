/** Gain over frequency, with a handle for each band of an equaliser. */
import type { ScopeAnswer } from '../../api/client';
import { clamp } from '../../controls/value';
import { pixel, type Axis } from '../../draw/scale';
import {
  atHz,
  db,
  frequencyAxis,
  frequencyGrid,
  gain,
  levelGrid,
  type Box,
  type Shape,
} from '../../draw/shapes';

const TICKS_DB = [-18, -12, -6, 0, 6, 12, 18];
const BANDS = [1, 2, 3, 4];

export type Response = NonNullable<ScopeAnswer['response']>;
export interface Axes {
  xs: Axis;
  ys: Axis;
}
export interface Handle {
  band: number;
  x: number;
  y: number;
}

export const axesOf = ({ width, height }: Box): Axes => ({
  xs: frequencyAxis(34, width - 12),
  ys: { low: -18, high: 18, from: height - 22, to: 26 },
});

export const grid = ({ xs, ys }: Axes): Shape[] => [
  ...frequencyGrid(xs, ys, ys.from + 12),
  ...levelGrid(TICKS_DB, ys, xs.from, xs.to, (value) => (value > 0 ? `+${value}` : String(value))),
];

export function shapesOf({ frequency_hz, gain_db }: Response, { xs, ys }: Axes): Shape[] {
  const px = frequency_hz.map((hz) => atHz(hz, xs));
  const py = gain_db.map((v) => pixel(clamp(v, ys.low, ys.high), ys));
  return gain(px, py, pixel(0, ys), { ink: 'after', width: 2 });
}

/** Whether a band has a gain of its own, or only a corner. */
export const hasGain = (settings: Record<string, unknown>, band: number): boolean =>
  !['high-pass', 'low-pass', 'off'].includes(String(settings[`band${band}_kind`]));

export const handles = (settings: Record<string, unknown>, { xs, ys }: Axes): Handle[] =>
  BANDS.filter((band) => settings[`band${band}_kind`] !== 'off').map((band) => ({
    band,
    x: atHz(Number(settings[`band${band}_frequency_hz`]), xs),
    y: pixel(
      hasGain(settings, band) ? clamp(Number(settings[`band${band}_gain_db`]), ys.low, ys.high) : 0,
      ys,
    ),
  }));

export function says({ frequency_hz, gain_db }: Response): string {
  const at = (wanted: number) => {
    const near = frequency_hz.reduce((best, hz, i) =>
      Math.abs(hz - wanted) < Math.abs(frequency_hz[best]! - wanted) ? i : best, 0); // prettier-ignore
    return `${db(gain_db[near]!)} dB at ${wanted} Hz`;
  };
  return `Gain ${[50, 200, 1000, 4000, 12000].map(at).join(', ')}.`;
}
