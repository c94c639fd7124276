/** Output level against input level, over the levels at the detector as a histogram along the input axis. */
import type { ScopeAnswer } from '../../api/client';
import { clamp } from '../../controls/value';
import { pixel, type Axis } from '../../draw/scale';
import {
  box as filled,
  db,
  difference,
  line,
  rule,
  text,
  within,
  type Box,
  type Shape,
} from '../../draw/shapes';

const TICKS_DB = [-84, -72, -60, -48, -36, -24, -12, 0];
const HISTOGRAM = 30;
const STEP_DB = 0.5;
/** Two points of a free curve lie at least so far apart. */
export const MIN_GAP_DB = 0.5;
export const MAX_POINTS = 16;
const LOWEST_DB = -90;
const HIGHEST_DB = 12;

export type Curve = NonNullable<ScopeAnswer['curve']>;
export type Point = [number, number];
export interface Axes {
  xs: Axis;
  ys: Axis;
  base: number;
}

export function axesOf(deep: boolean, { width, height }: Box): Axes {
  const low = deep ? LOWEST_DB : -54;
  return {
    xs: { low, high: 3, from: 34, to: width - 10 },
    ys: { low, high: 3, from: height - 24 - HISTOGRAM, to: 26 },
    base: height - 20,
  };
}

/** The output level for an input level, from the curve. */
export function outputAt(curve: Curve, input: number): number {
  const at = clamp((input - curve.input_db[0]!) / STEP_DB, 0, curve.input_db.length - 1);
  return curve.output_db[Math.round(at)]!;
}

/** Marks so far apart that their figures do not overlap. */
const TEXT_HEIGHT = 14;

export function grid({ xs, ys, base }: Axes): Shape[] {
  const between = Math.abs(pixel(-12, ys) - pixel(0, ys));
  const every = xs.low > -60 && between >= TEXT_HEIGHT ? 12 : 24;
  return TICKS_DB.filter((tick) => tick > xs.low && tick % every === 0).flatMap((tick) => {
    const [x, y] = [pixel(tick, xs), pixel(tick, ys)];
    return [
      rule(xs.from, y, xs.to, y, { ink: 'line' }),
      rule(x, ys.to, x, ys.from, { ink: 'line' }),
      text(xs.from - 5, y, String(tick), 'right'),
      text(x, base + 10, String(tick), 'center'),
    ];
  });
}

/** threshold: the input level from which the step works; null if there is no such level. */
export function shapesOf(curve: Curve, { xs, ys, base }: Axes, threshold: number | null): Shape[] {
  const px = curve.input_db.map((v) => pixel(v, xs));
  const unity = curve.input_db.map((v) => pixel(v, ys));
  const out = curve.output_db.map((v) => pixel(v, ys));
  const shapes: Shape[] = [
    within(xs, ys, [
      ...difference(px, unity, out),
      line(px, unity, { ink: 'soft', dash: [3, 3] }),
      line(px, out, { ink: 'after', width: 2 }),
    ]),
  ];
  const tallest = Math.max(0.02, ...curve.histogram);
  const width = pixel(1.5, xs) - pixel(0, xs);
  curve.histogram.forEach((share, i) => {
    const from = curve.histogram_db[i]!;
    if (from < xs.low || !share) return;
    const height = (share / tallest) * (HISTOGRAM - 4);
    const alpha = from >= (threshold ?? xs.low) ? 1 : 0.4;
    shapes.push(
      filled(pixel(from, xs), base - height, Math.max(1, width - 1), height, { ink: 'key', alpha }),
    );
  });
  if (threshold !== null) {
    const x = pixel(clamp(threshold, xs.low, xs.high), xs);
    shapes.push(rule(x, base - HISTOGRAM, x, base, { ink: 'ink' }));
  }
  return shapes;
}

/** Below this nothing is heard. */
const SILENT_DB = -100;
const outputText = (level: number) => (level <= SILENT_DB ? 'nothing' : db(level));

export function says(curve: Curve, threshold: number | null): string {
  const levels = [-48, -24, -12, 0]
    .map((level) => `${level} in, ${outputText(outputAt(curve, level))} out`)
    .join('; ');
  const above = curve.histogram.reduce(
    (sum, share, i) => sum + (curve.histogram_db[i]! >= (threshold ?? Infinity) ? share : 0),
    0,
  );
  return threshold === null
    ? `In dB: ${levels}.`
    : `In dB: ${levels}. Threshold ${db(threshold)} dB; the detector is above it ${Math.round(100 * above)} % of the time.`;
}

// ---- points of a free curve ------------------------------------------------------------------------------------------

const tenth = (value: number) => Math.round(value * 10) / 10;

/** The points with one of them moved; its neighbours keep it between them. */
export function movePoint(points: Point[], at: number, input: number, output: number): Point[] {
  const from = at > 0 ? points[at - 1]![0] + MIN_GAP_DB : LOWEST_DB;
  const to = at < points.length - 1 ? points[at + 1]![0] - MIN_GAP_DB : HIGHEST_DB;
  const moved: Point = [clamp(tenth(input), from, to), clamp(tenth(output), -120, HIGHEST_DB)];
  return points.map((point, i) => (i === at ? moved : point));
}

/** The points with one more, and its place among them; null if there is no room for it. */
export function addPoint(
  points: Point[],
  input: number,
  output: number,
): { points: Point[]; at: number } | null {
  const level = tenth(clamp(input, LOWEST_DB, HIGHEST_DB));
  if (points.length >= MAX_POINTS || points.some((point) => Math.abs(point[0] - level) < MIN_GAP_DB))
    return null;
  const at = points.filter((point) => point[0] < level).length;
  return { points: [...points.slice(0, at), [level, tenth(output)], ...points.slice(at)], at };
}
