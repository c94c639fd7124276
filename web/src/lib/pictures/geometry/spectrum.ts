/** Level over frequency before and after, the filter of the key, and what a moving filter takes at most. */
import type { Setting, SettingValue, Spectrum } from '../../api/client';
import { pixel, type Axis } from '../../draw/scale';
import {
  area,
  atHz,
  change,
  db,
  frequencyAxis,
  frequencyGrid,
  levelGrid,
  line,
  within,
  type Box,
  type Shape,
} from '../../draw/shapes';

const SPAN_DB = 72;
const HIGHEST_DB = 6;

export interface Axes {
  xs: Axis;
  ys: Axis;
}

/** Above the plot, and for each row of labels of corners. */
const TOP = 10;
export const LABEL_ROW = 16;
/** A letter of a label, and what surrounds it, in pixels; rough. */
const LETTER = 6.2;
const AROUND = 18;

/** Rows for labels that stand at places along the axis, from the top; in one row none meets another. They lie right of their
 * places, or left of them where there is no room. */
export function labelRows(
  labels: { x: number; text: string }[],
  width: number,
): { row: number; left: boolean }[] {
  const rows: [number, number][][] = [];
  return labels.map(({ x, text }) => {
    const long = AROUND + LETTER * text.length;
    const left = x + long > width;
    const [from, to] = left ? [x - long, x] : [x, x + long];
    let row = rows.findIndex((taken) => taken.every(([start, end]) => to < start || from > end));
    if (row < 0) row = rows.push([]) - 1;
    rows[row]!.push([from, to]);
    return { row, left };
  });
}

/** The levels' axis reaches to the loudest band of the average. rows: of labels above it. */
export function axesOf(spectrum: Spectrum | null, { width, height }: Box, rows = 0): Axes {
  const loudest = Math.max(-60, ...(spectrum?.before_db ?? []), ...(spectrum?.after_db ?? []));
  const high = Math.min(HIGHEST_DB, Math.ceil((loudest + 4) / 6) * 6);
  return {
    xs: frequencyAxis(38, width - 12),
    ys: { low: high - SPAN_DB, high, from: height - 22, to: TOP + LABEL_ROW * rows },
  };
}

export function grid({ xs, ys }: Axes): Shape[] {
  const ticks = [];
  for (let level = ys.high; level >= ys.low; level -= 12) ticks.push(level);
  return [...frequencyGrid(xs, ys, ys.from + 12), ...levelGrid(ticks, ys, xs.from, xs.to)];
}

/** at: the moving picture shown, or null for the average of the passage. cut: whether the step's own filter is drawn from the top. */
export function shapesOf(spectrum: Spectrum, { xs, ys }: Axes, at: number | null, cut: boolean): Shape[] {
  const px = spectrum.frequency_hz.map((hz) => atHz(hz, xs));
  const place = (values: number[]) => values.map((v) => pixel(Math.max(v, ys.low), ys));
  const before = at === null ? spectrum.before_db : spectrum.moving_before_db[at]!;
  const after = at === null ? spectrum.after_db : spectrum.moving_after_db[at]!;
  if (!before.length) return [];
  const fromTop = (values: number[]) => place(values.map((v) => ys.high + Math.min(v, 0)));
  const shapes = [
    ...change(px, place(before), place(after), ys.from, 0.85),
    line(px, place(spectrum.taken_db), { ink: 'taken' }),
  ];
  if (cut && spectrum.cut_db)
    shapes.push(area(px, px.map(() => ys.to), fromTop(spectrum.cut_db), { ink: 'taken', pattern: 'hatch' })); // prettier-ignore
  if (spectrum.key_db)
    shapes.push(line(px, fromTop(spectrum.key_db), { ink: 'key', width: 1.5, dash: [5, 4] }));
  return [within(xs, ys, shapes)];
}

/** Settings in Hz that apply as the others stand: each is a corner to drag. */
export const cornersOf = (described: Setting[], settings: Record<string, SettingValue>): Setting[] =>
  described.filter(
    (setting) =>
      setting.unit === 'Hz' &&
      setting.type === 'number' &&
      Object.entries(setting.when).every(([name, values]) => values.includes(String(settings[name]))),
  );

/** The band that a step works in, from and to in Hz; null if it has none. */
export function bandOf(settings: Record<string, SettingValue>): [number, number] | null {
  const middle = Number(settings['frequency_hz']);
  if (!middle || settings['width_oct'] === undefined) return null;
  const reach = 2 ** (Number(settings['width_oct']) / 2);
  return String(settings['shape']).startsWith('band') ? [middle / reach, middle * reach] : [middle, 20_000];
}

/** By decades and thirds of them, as an engineer names regions. */
const REGIONS: [string, number, number][] = [
  ['lows', 20, 200],
  ['low mids', 200, 800],
  ['high mids', 800, 4000],
  ['highs', 4000, 20_000],
];

export function says(spectrum: Spectrum): string {
  const regions = REGIONS.map(([name, low, high]) => {
    const inside = (values: number[]) => values.filter((_, i) => {
      const hz = spectrum.frequency_hz[i]!;
      return hz >= low && hz < high;
    }); // prettier-ignore
    const loudest = (values: number[]) => Math.max(-160, ...inside(values));
    return `${name} ${db(loudest(spectrum.before_db))} before, ${db(loudest(spectrum.after_db))} after`;
  });
  return `Loudest band in dB: ${regions.join('; ')}.`;
}
