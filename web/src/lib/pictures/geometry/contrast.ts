/** Sections along time against loudness: what comes in, what leaves, and the wish to keep so much between quiet and loud. */
import type { Contrast } from '../../api/client';
import { clamp } from '../../controls/value';
import { ticks, type Grid } from '../../draw/grid';
import { pixel, valueAt, type Axis } from '../../draw/scale';
import {
  db,
  decibelGrid,
  frame,
  box as filled,
  line,
  rule,
  text,
  within,
  type Box,
  type Shape,
} from '../../draw/shapes';

export const LEFT = 44;
export const RIGHT = 12;
export const TOP = 44;
export const BOTTOM = 22;
/** The axis shows this at least, and never less than so much of it. */
const STEP_LU = 6;
const MIN_LU = 18;
const FLOOR_LUFS = -60;
/** A line is broken where nothing is to be heard. */
const GAP = Number.NaN;

export interface Axes {
  time: Axis;
  levels: Axis;
}

const known = (values: (number | null)[]) => values.filter((value): value is number => value !== null);

export function axesOf(
  contrast: Contrast | null,
  length_s: number,
  { width, height }: Box,
  wish_lu = 0,
): Axes {
  const all = known([
    wishLevel(contrast, wish_lu),
    ...(contrast?.before_lufs ?? []),
    ...(contrast?.after_lufs ?? []),
    ...(contrast?.sections ?? []).flatMap((s) => [s.before.integrated_lufs, s.after.integrated_lufs]),
  ]).filter((value) => value >= FLOOR_LUFS);
  const high = Math.ceil((Math.max(-24, ...all) + 1) / STEP_LU) * STEP_LU;
  const low = Math.min(Math.floor((Math.min(0, ...all) - 1) / STEP_LU) * STEP_LU, high - MIN_LU);
  return {
    time: { low: 0, high: Math.max(length_s, 1), from: LEFT, to: width - RIGHT },
    levels: { low: all.length ? low : -48, high, from: height - BOTTOM, to: TOP },
  };
}

/** The level that the quietest section may reach at most if the wish is kept; null without a wish or sections. */
export function wishLevel(contrast: Contrast | null, wish_lu: number): number | null {
  const loudness = known((contrast?.sections ?? []).map((section) => section.after.integrated_lufs));
  return wish_lu > 0 && loudness.length ? Math.max(...loudness) - wish_lu : null;
}

/** The wish for a level dragged to a pixel, in half decibels. */
export function wishAt(y: number, contrast: Contrast, { levels }: Axes): number {
  const loudness = known(contrast.sections.map((section) => section.after.integrated_lufs));
  const wish = Math.max(...loudness) - valueAt(y, levels);
  return clamp(Math.round(wish * 2) / 2, 0.5, 30);
}

export function gridShapes({ time, levels }: Axes, grid: Grid): Shape[] {
  const bars = ticks(time.low, time.high, time.to - time.from, grid).filter((tick) => tick.label !== null);
  return [
    ...decibelGrid(levels, LEFT, time.to),
    ...bars.flatMap(({ at_s, label }) => {
      const x = pixel(at_s, time);
      return [rule(x, levels.to, x, levels.from, { ink: 'line' }), text(x, levels.from + 11, label!, 'center')]; // prettier-ignore
    }),
  ];
}

/** A line in pieces, none where the value is null. */
function pieces(times: number[], values: (number | null)[], { time, levels }: Axes): [number[], number[]][] {
  const result: [number[], number[]][] = [];
  let last: [number[], number[]] | null = null;
  times.forEach((at_s, i) => {
    const value = values[i] ?? GAP;
    if (Number.isNaN(value)) {
      last = null;
      return;
    }
    if (!last) result.push((last = [[], []]));
    last[0].push(pixel(at_s, time));
    last[1].push(pixel(value, levels));
  });
  return result;
}

export function shapesOf(contrast: Contrast, axes: Axes): Shape[] {
  const { time, levels } = axes;
  const y = (value: number) => pixel(clamp(value, levels.low, levels.high), levels);
  const lines = (values: (number | null)[], ink: 'soft' | 'after') =>
    pieces(contrast.times_s, values, axes).map(([xs, ys]) => line(xs, ys, { ink }));
  const bars = contrast.sections.flatMap((section): Shape[] => {
    const [x, end] = [pixel(section.start_s, time) + 1, pixel(section.end_s, time) - 1];
    const [before, after] = [section.before.integrated_lufs, section.after.integrated_lufs];
    const shapes: Shape[] = [rule(end + 1, levels.to - 16, end + 1, levels.from, { ink: 'line' })];
    if (before !== null && after !== null && Math.abs(before - after) > 0.05)
      shapes.push(
        filled(x, Math.min(y(before), y(after)), end - x, Math.abs(y(before) - y(after)), {
          ink: after < before ? 'taken' : 'after',
          pattern: after < before ? 'hatch' : 'grain',
        }),
      );
    if (before !== null) shapes.push(frame(x, y(before) - 1, end - x, 2, { ink: 'soft' }));
    if (after !== null) {
      shapes.push(filled(x, y(after) - 2, end - x, 4, { ink: 'after' }));
      // On the side that is not hatched.
      const beside = before !== null && after < before - 0.05 ? 11 : -10;
      if (end - x > 36) shapes.push(text((x + end) / 2, y(after) + beside, db(after), 'center', 'ink'));
    }
    return shapes;
  });
  return [
    within(time, { ...levels, to: levels.to - 16 }, [
      ...lines(contrast.before_lufs, 'soft'),
      ...lines(contrast.after_lufs, 'after'),
      ...bars,
    ]),
    ...contrast.sections.flatMap((section) => {
      const [x, end] = [pixel(section.start_s, time), pixel(section.end_s, time)];
      const name = shortened(section.name, end - x);
      return name ? [text((x + end) / 2, levels.to - 10, name, 'center', 'ink')] : [];
    }),
  ];
}

/** As much of a name as fits. */
export function shortened(name: string, width: number): string {
  const room = Math.floor((width - 6) / 7);
  if (name.length <= room) return name;
  return room >= 4 ? `${name.slice(0, room - 2)}..` : '';
}

export function says(contrast: Contrast): string {
  const { before_lu, after_lu, sections } = contrast;
  if (before_lu === null || after_lu === null)
    return sections.length < 2
      ? 'Fewer than two sections: there is no contrast to show.'
      : 'Fewer than two sections sound.';
  const named = sections.map(
    ({ name, after }) =>
      `${name} ${after.integrated_lufs === null ? 'silent' : `${db(after.integrated_lufs)}`}`,
  );
  return `From the quietest to the loudest section ${db(before_lu)} LU before, ${db(after_lu)} LU after. After, in LUFS: ${named.join(', ')}.`;
}
