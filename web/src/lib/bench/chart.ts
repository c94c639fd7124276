/** What a picture of the bench shows: axes and what lies where. Pure functions. */
import type { BenchResult } from '../api/client';
import { decibelTicks } from '../draw/scale';

export interface Span {
  low: number;
  high: number;
}

const HZ = [20, 50, 100, 200, 500, 1000, 2000, 5000, 10000, 20000];
/** Nothing below this is worth room. */
const DEEPEST_DB = -160;

export const isGrid = (result: BenchResult) => result.grid.length > 0;

/** The x axis: decades for frequencies, else what there is. */
export function xSpan(results: BenchResult[]): Span {
  const first = results[0]!;
  const all = isGrid(first)
    ? first.grid_x
    : results.flatMap((result) => result.lines.flatMap((line) => line.x));
  const [low, high] = [Math.min(...all), Math.max(...all)];
  return first.log_x ? { low: Math.log10(Math.max(low, 20)), high: Math.log10(high) } : { low, high };
}

/** The y axis: whole dozens of decibels round what there is; a little more where the values lie close. */
export function ySpan(results: BenchResult[]): Span {
  const first = results[0]!;
  if (isGrid(first))
    return { low: Math.log10(Math.max(20, first.grid_y[0]!)), high: Math.log10(first.grid_y.at(-1)!) };
  const all = results.flatMap((result) => result.lines.flatMap((line) => line.y));
  const [low, high] = [Math.max(Math.min(...all), DEEPEST_DB), Math.max(...all)];
  const step = high - low > 36 ? 12 : high - low > 9 ? 6 : 3;
  const [bottom, top] = [Math.floor(low / step) * step, Math.ceil((high + 0.01) / step) * step];
  return { low: bottom === top ? bottom - step : bottom, high: top };
}

export interface Tick {
  at: number;
  text: string;
}

export const hz = (value: number) =>
  value >= 1000 ? `${Number((value / 1000).toPrecision(3))}k` : `${Math.round(value)}`;

export function logTicks({ low, high }: Span): Tick[] {
  return HZ.filter((value) => Math.log10(value) >= low - 1e-9 && Math.log10(value) <= high + 1e-9).map(
    (value) => ({
      at: Math.log10(value),
      text: hz(value),
    }),
  );
}

export function plainTicks({ low, high }: Span, most: number): Tick[] {
  return decibelTicks(low, high, most).map((at) => ({ at, text: String(Number(at.toFixed(3))) }));
}

/** Ticks of an axis in any unit: about `most` round steps of 1, 2 or 5. */
export function roundTicks({ low, high }: Span, most: number): Tick[] {
  const raw = (high - low) / Math.max(1, most);
  const power = 10 ** Math.floor(Math.log10(raw));
  const step = [1, 2, 5, 10].map((n) => n * power).find((value) => value >= raw) ?? 10 * power;
  const found: Tick[] = [];
  for (let at = Math.ceil(low / step) * step; at <= high + step * 1e-6; at += step)
    found.push({ at: at + 0, text: String(Number(at.toFixed(6))) });
  return found;
}

/** A figure as it is read. */
export function figureText(value: number | null): string {
  if (value === null) return '--';
  if (Math.abs(value) < 0.0005) return '0.000';
  if (Math.abs(value) >= 1000) return value.toFixed(0);
  return value.toFixed(Math.abs(value) < 1 ? 3 : Math.abs(value) < 20 ? 2 : 1);
}
