/** What a picture consists of, as data: worked out by pure functions, painted by `paint` in `canvas.ts`. */
import { numberText } from '../number';
import type { Colours } from './canvas';
import { decibelTicks, pixel, type Axis } from './scale';

export type Ink = keyof Colours;
export interface Box {
  width: number;
  height: number;
}
/** Taken is hatched, added is grained: no colour is needed to tell them. */
export interface Fill {
  ink: Ink;
  pattern?: 'hatch' | 'grain';
  alpha?: number;
}
export interface Stroke {
  ink: Ink;
  width?: number;
  dash?: number[];
}
export type Shape =
  | { type: 'area'; xs: number[]; upper: number[]; lower: number[]; fill: Fill }
  | { type: 'line'; xs: number[]; ys: number[]; stroke: Stroke }
  | { type: 'rule'; from: [number, number]; to: [number, number]; stroke: Stroke }
  | { type: 'box'; x: number; y: number; width: number; height: number; fill: Fill }
  | { type: 'frame'; x: number; y: number; width: number; height: number; stroke: Stroke }
  | { type: 'dot'; x: number; y: number; radius: number; ink: Ink; open?: boolean }
  | { type: 'text'; x: number; y: number; text: string; ink: Ink; align: CanvasTextAlign }
  | { type: 'clip'; x: number; y: number; width: number; height: number; shapes: Shape[] };

export const area = (xs: number[], upper: number[], lower: number[], fill: Fill): Shape => ({
  type: 'area',
  xs,
  upper,
  lower,
  fill,
});
export const line = (xs: number[], ys: number[], stroke: Stroke): Shape => ({ type: 'line', xs, ys, stroke });
/** A line of whole pixels, level or upright. */
export const rule = (x1: number, y1: number, x2: number, y2: number, stroke: Stroke): Shape => ({
  type: 'rule',
  from: [x1, y1],
  to: [x2, y2],
  stroke,
});
export const box = (x: number, y: number, width: number, height: number, fill: Fill): Shape => ({
  type: 'box',
  x,
  y,
  width,
  height,
  fill,
});
export const frame = (x: number, y: number, width: number, height: number, stroke: Stroke): Shape => ({
  type: 'frame',
  x,
  y,
  width,
  height,
  stroke,
});
export const text = (
  x: number,
  y: number,
  words: string,
  align: CanvasTextAlign = 'left',
  ink: Ink = 'soft',
): Shape => ({ type: 'text', x, y, text: words, ink, align });
/** Only what lies within the two axes. */
export const within = (xs: Axis, ys: Axis, shapes: Shape[]): Shape => ({
  type: 'clip',
  x: xs.from,
  y: ys.to,
  width: xs.to - xs.from,
  height: ys.from - ys.to,
  shapes,
});

const higher = (a: number[], b: number[]) => a.map((y, i) => Math.min(y, b[i]!));
const lower = (a: number[], b: number[]) => a.map((y, i) => Math.max(y, b[i]!));

/** A sound before and after, as lines of pixels: before outlined, after filled, taken hatched, added in grains. */
export function change(xs: number[], before: number[], after: number[], floor: number, alpha = 1): Shape[] {
  return [
    area(xs, after, xs.map(() => floor), { ink: 'after', alpha }), // prettier-ignore
    area(xs, higher(before, after), after, { ink: 'taken', pattern: 'hatch' }),
    area(xs, higher(after, before), before, { ink: 'plate' }),
    area(xs, higher(after, before), before, { ink: 'after', pattern: 'grain' }),
    line(xs, before, { ink: 'soft' }),
  ];
}

/** What lies beneath a line of pixels is taken, what lies above it added. */
export function difference(xs: number[], unchanged: number[], after: number[]): Shape[] {
  return [
    area(xs, unchanged, lower(after, unchanged), { ink: 'taken', pattern: 'hatch' }),
    area(xs, higher(after, unchanged), unchanged, { ink: 'after', pattern: 'grain' }),
  ];
}

/** A gain about zero, as lines of pixels: less is hatched, more in grains. */
export function gain(xs: number[], values: number[], zero: number, stroke: Stroke): Shape[] {
  return [...difference(xs, xs.map(() => zero), values), line(xs, values, stroke)]; // prettier-ignore
}

/** Level lines with their values at the left. */
export function levelGrid(
  ticks: number[],
  axis: Axis,
  left: number,
  right: number,
  label: (value: number) => string = String,
): Shape[] {
  return ticks.flatMap((tick) => {
    const y = pixel(tick, axis);
    return [
      rule(left, y, right, y, { ink: 'line' }),
      text(left - 6, y, label(tick === 0 ? 0 : tick), 'right'),
    ];
  });
}

/** Level lines every few decibels, so that their values have room. */
export function decibelGrid(
  axis: Axis,
  left: number,
  right: number,
  label?: (value: number) => string,
  room = 18,
): Shape[] {
  const most = Math.max(1, Math.abs(axis.from - axis.to) / room);
  const [low, high] = [Math.min(axis.low, axis.high), Math.max(axis.low, axis.high)];
  return levelGrid(decibelTicks(low, high, most), axis, left, right, label);
}

export const FREQUENCIES_HZ = [20, 50, 100, 200, 500, 1000, 2000, 5000, 10000, 20000];
export const LOWEST_HZ = 20;
export const HIGHEST_HZ = 20_000;
/** The axis of frequency, of decades. */
export const frequencyAxis = (from: number, to: number): Axis => ({
  low: Math.log10(LOWEST_HZ),
  high: Math.log10(HIGHEST_HZ),
  from,
  to,
});
export const atHz = (hz: number, axis: Axis): number =>
  pixel(Math.log10(Math.min(Math.max(hz, LOWEST_HZ), HIGHEST_HZ)), axis);

/** Upright lines at round frequencies; their names at the height `y`. */
export function frequencyGrid(xs: Axis, ys: Axis, y: number): Shape[] {
  return FREQUENCIES_HZ.flatMap((hz) => {
    const x = atHz(hz, xs);
    return [
      rule(x, ys.to, x, ys.from, { ink: 'line' }),
      text(x, y, hz >= 1000 ? `${hz / 1000}k` : String(hz), 'center'),
    ];
  });
}

/** The middle of each of `count` columns. */
export const columns = (count: number, left: number, right: number): number[] =>
  Array.from({ length: count }, (_, i) => left + ((i + 0.5) / count) * (right - left));

/** `-12.0`, for sentences. */
export const db = (value: number): string => numberText(value);
