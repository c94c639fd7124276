/** What a picture of the bench shows: axes and what lies where. Pure functions. */
import type { BenchResult } from '../api/client';
import { clamp } from '../controls/value';
import { decibelTicks, pixel, type Axis } from '../draw/scale';
import { box, FREQUENCIES_HZ, line, rule, text, type Box, type Shape, type Stroke } from '../draw/shapes';

export interface Span {
  low: number;
  high: number;
}

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
  return FREQUENCIES_HZ.filter(
    (value) => Math.log10(value) >= low - 1e-9 && Math.log10(value) <= high + 1e-9,
  ).map((value) => ({
    at: Math.log10(value),
    text: hz(value),
  }));
}

export function plainTicks({ low, high }: Span, most: number): Tick[] {
  return decibelTicks(low, high, most).map((at) => ({ at, text: String(Number(at.toFixed(3))) }));
}

/** Ticks of an axis in any unit: about `most` round steps of 1, 2 or 5. */
export function roundTicks({ low, high }: Span, most: number): Tick[] {
  const raw = (high - low) / Math.max(1, most);
  const power = 10 ** Math.floor(Math.log10(raw));
  const step = [1, 2, 5, 10].map((n) => n * power).find((value) => value >= raw) ?? 10 * power;
  const result: Tick[] = [];
  for (let at = Math.ceil(low / step) * step; at <= high + step * 1e-6; at += step)
    result.push({ at: at + 0, text: String(Number(at.toFixed(6))) });
  return result;
}

/** A figure as it is read. */
export function figureText(value: number | null): string {
  if (value === null) return '--';
  if (Math.abs(value) < 0.0005) return '0.000';
  if (Math.abs(value) >= 1000) return value.toFixed(0);
  return value.toFixed(Math.abs(value) < 1 ? 3 : Math.abs(value) < 20 ? 2 : 1);
}

// ---- shapes ----------------------------------------------------------------------------------------------------------

const DASHES = [[6, 4], [2, 3], [10, 3, 2, 3], [1, 4]]; // prettier-ignore
/** Of a grid nothing so far below the loudest is shown. */
const GRID_FLOOR_DB = -120;

export interface Axes {
  xs: Axis;
  ys: Axis;
}
/** A result that is kept to be compared with. */
export interface Pinned {
  letter: string;
  result: BenchResult;
}

export const axesOf = (shown: BenchResult[], { width, height }: Box): Axes => ({
  xs: { ...xSpan(shown), from: 48, to: width - 16 },
  ys: { ...ySpan(shown), from: height - 34, to: 26 },
});

const xOf = (x: number, result: BenchResult, { xs }: Axes) =>
  pixel(result.log_x ? Math.log10(Math.max(x, 1)) : x, xs);
const yOf = (y: number, result: BenchResult, { ys }: Axes) =>
  clamp(pixel(isGrid(result) ? Math.log10(Math.max(y, 1)) : y, ys), ys.to, ys.from);

/** The ground is part of the picture, so that it can be kept as a file. */
export function gridShapes(result: BenchResult, { xs, ys }: Axes, { width, height }: Box): Shape[] {
  const across = result.log_x ? logTicks(xs) : roundTicks(xs, 8);
  const up = isGrid(result) ? logTicks(ys) : plainTicks(ys, Math.max(2, (ys.from - ys.to) / 22));
  return [
    box(0, 0, width, height, { ink: 'plate' }),
    ...across.flatMap(({ at, text: label }) => {
      const x = pixel(at, xs);
      return [rule(x, ys.to, x, ys.from, { ink: 'line' }), text(x, ys.from + 11, label, 'center')];
    }),
    ...up.flatMap(({ at, text: label }) => {
      const y = pixel(at, ys);
      return [rule(xs.from, y, xs.to, y, { ink: 'line' }), text(xs.from - 6, y, label, 'right')];
    }),
    text(xs.to, ys.from + 25, result.x_label, 'right'),
    text(xs.from, 13, result.y_label),
  ];
}

/** Each level as ink: the stronger, the darker. Above the diagonal of the tone lie its harmonics, elsewhere its aliases. */
function levelShapes(result: BenchResult, axes: Axes): Shape[] {
  const { grid_x, grid_y } = result;
  const wide = (axes.xs.to - axes.xs.from) / grid_x.length + 1;
  const high = (axes.ys.from - axes.ys.to) / grid_y.length + 1;
  return result.grid.flatMap((column, n) => {
    const loudest = Math.max(...column);
    return column.flatMap((level, m) => {
      const share = clamp((level - loudest - GRID_FLOOR_DB) / -GRID_FLOOR_DB, 0, 1);
      if (share <= 0) return [];
      const [x, y] = [xOf(grid_x[n]!, result, axes), yOf(grid_y[m]!, result, axes)];
      return [box(x - wide / 2, y - high / 2, wide, high, { ink: 'ink', alpha: share * share })];
    });
  });
}

function lineShapes(result: BenchResult, pins: Pinned[], axes: Axes): Shape[] {
  const drawn = ({ x, y }: BenchResult['lines'][number], stroke: Stroke) =>
    line(x.map((v) => xOf(v, result, axes)), y.map((v) => yOf(v, result, axes)), stroke); // prettier-ignore
  const shapes: Shape[] = [];
  pins.forEach((pin, n) => {
    if (pin.result.test !== result.test) return;
    for (const one of pin.result.lines)
      shapes.push(drawn(one, { ink: 'ink', dash: DASHES[n % DASHES.length]! }));
  });
  result.lines.forEach((one, n) => {
    shapes.push(drawn(one, n === 0 ? { ink: 'after', width: 1.5 } : { ink: 'soft' }));
  });
  // A pinned mark is open and to the left, with its pin's letter.
  for (const pin of pins) {
    let last = -100;
    for (const mark of pin.result.marks) {
      const [x, y] = [xOf(mark.x, result, axes) - 6, yOf(mark.y, result, axes)];
      shapes.push({ type: 'frame', x: x - 2.5, y: y - 2.5, width: 5, height: 5, stroke: { ink: 'ink' } });
      if (x - last > 26) shapes.push(text(x - 9, y, pin.letter, 'center', 'ink'));
      last = x;
    }
  }
  return shapes;
}

export function resultShapes(result: BenchResult, pins: Pinned[], axes: Axes): Shape[] {
  const levels = isGrid(result);
  const ink = levels ? 'taken' : 'ink';
  const shapes = levels ? levelShapes(result, axes) : lineShapes(result, pins, axes);
  let last = -100;
  for (const mark of result.marks) {
    const [x, y] = [xOf(mark.x, result, axes), yOf(mark.y, result, axes)];
    shapes.push({ type: 'dot', x, y, radius: levels ? 6 : 2.5, ink, open: levels });
    if (x - last < 20) continue;
    last = x;
    // Beside the line, where a pinned one may go on above.
    const at = clamp(x + 12, axes.xs.from + 12, axes.xs.to - 16);
    shapes.push(text(at, Math.max(y - 9, axes.ys.to + 4), mark.text, 'center', ink));
  }
  return shapes;
}

export const says = (result: BenchResult): string =>
  result.figures.map(({ label, value, unit }) => `${label} ${figureText(value)} ${unit}`.trim()).join('; ') +
  '.';
