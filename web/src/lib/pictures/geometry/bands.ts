/** All lanes of a split: the sound over frequency, and in a column for each lane what it takes and what its detector listens to. */
import type { LaneFigures, Spectrum } from '../../api/client';
import { clamp } from '../../controls/value';
import { pixel, type Axis } from '../../draw/scale';
import {
  area,
  atHz,
  box as filled,
  db,
  frequencyAxis,
  frequencyGrid,
  levelGrid,
  line,
  rule,
  type Box,
  type Shape,
} from '../../draw/shapes';

const LOW_DB = -78;
const HIGH_DB = 6;
const TICKS_DB = [0, -12, -24, -36, -48, -60, -72];
/** Neighbouring dividers lie at least by this ratio apart. */
export const MIN_RATIO = 1.11;

export interface Axes {
  xs: Axis;
  ys: Axis;
  /** The lanes' levels, on a scale of their own beside each column. */
  levels: Axis;
}

export function axesOf({ width, height }: Box): Axes {
  const ys = { low: LOW_DB, high: HIGH_DB, from: height - 20, to: 40 };
  return {
    xs: frequencyAxis(34, width - 14),
    ys,
    levels: { low: -24, high: 24, from: ys.from - 6, to: ys.to + 6 },
  };
}

export const levelAt = (level: number, { ys }: Axes): number => pixel(clamp(level, LOW_DB, HIGH_DB), ys);

/** Left and right edge of each lane's column: between the dividers, or of one width. */
export function columnsOf(count: number, dividers: number[] | null, { xs }: Axes): [number, number][] {
  const width = (xs.to - xs.from) / Math.max(1, count);
  const edges = dividers
    ? [xs.from, ...dividers.map((hz) => atHz(hz, xs)), xs.to]
    : Array.from({ length: count + 1 }, (_, i) => xs.from + i * width);
  return Array.from({ length: count }, (_, i) => [edges[i]!, edges[i + 1]!]);
}

export const grid = (axes: Axes, byBands: boolean): Shape[] => [
  ...(byBands ? frequencyGrid(axes.xs, axes.ys, axes.ys.from + 11) : []),
  ...levelGrid(TICKS_DB, axes.ys, axes.xs.from, axes.xs.to),
];

export interface LaneShown {
  column: [number, number];
  taken_db: number;
  /** Level at the detector: 10th, 50th and 95th percentile and the loudest, in dBFS. */
  heard_db: LaneFigures['heard_db'] | null;
}

export function shapesOf(spectrum: Spectrum | null, lanes: LaneShown[], axes: Axes): Shape[] {
  const shapes: Shape[] = [];
  const y = (level: number) => levelAt(level, axes);
  if (spectrum?.before_db.length) {
    const px = spectrum.frequency_hz.map((hz) => atHz(hz, axes.xs));
    shapes.push(
      area(px, spectrum.after_db.map(y), px.map(() => axes.ys.from), { ink: 'after', alpha: 0.3 }), // prettier-ignore
      line(px, spectrum.before_db.map(y), { ink: 'soft' }),
    );
  }
  for (const { column, taken_db, heard_db } of lanes) {
    const [from, to] = column;
    const depth = -taken_db;
    if (depth > 0.05) {
      shapes.push(
        filled(from + 1, y(0), to - from - 2, y(-depth) - y(0), { ink: 'taken', pattern: 'hatch' }),
        rule(from + 1, y(-depth), to - 1, y(-depth), { ink: 'taken' }),
      );
    }
    if (heard_db) {
      const at = from + 9;
      const [low, middle, high, loudest] = heard_db as [number, number, number, number];
      shapes.push(
        filled(at - 3, y(high), 7, Math.max(1, y(low) - y(high)), { ink: 'key', alpha: 0.45 }),
        rule(at - 5, y(middle), at + 5, y(middle), { ink: 'key' }),
        rule(at - 3, y(loudest), at + 3, y(loudest), { ink: 'key' }),
        rule(at, y(loudest), at, y(high), { ink: 'key' }),
      );
    }
  }
  return shapes;
}

/** The dividers with one moved between its neighbours, or all of them by the same ratio. */
export function moveDivider(dividers: number[], index: number, hz: number, all: boolean): number[] {
  if (all) return dividers.map((value) => (value * clamp(hz, 20, 20_000)) / dividers[index]!);
  const low = index ? dividers[index - 1]! * MIN_RATIO : 20;
  const high = index < dividers.length - 1 ? dividers[index + 1]! / MIN_RATIO : 20_000;
  return dividers.map((value, i) => (i === index ? clamp(hz, low, high) : value));
}

export const says = (lanes: { name: string; taken_db: number; level_db: number }[]): string =>
  lanes
    .map(
      ({ name, taken_db, level_db }) =>
        `${name}: ${db(Math.max(0, -taken_db))} dB of gain reduction, level ${db(level_db)} dB.`,
    )
    .join(' ');
