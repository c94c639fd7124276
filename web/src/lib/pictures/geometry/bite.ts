/** The picture of dynamics: levels over time, and beneath them the gain reduction and the state of a gate. */
import type { ScopeAnswer } from '../../api/client';
import { clamp } from '../../controls/value';
import { pixel, type Axis } from '../../draw/scale';
import {
  area,
  box,
  change,
  columns,
  db,
  decibelGrid,
  gain,
  line,
  rule,
  type Box,
  type Shape,
} from '../../draw/shapes';

export const LEFT = 40;
export const RIGHT = 8;
export const TOP = 24;
export const BOTTOM = 18;
const GATE_HEIGHT = 10;
/** Room for two labels of the reductions, one above the other. */
const MIN_GR_HEIGHT = 20;
const MIN_SPAN_DB = 24;
/** No more is shown beneath the loudest, unless the threshold lies lower. */
const MAX_SPAN_DB = 60;
const LOWEST_DB = -84;

type Bite = ScopeAnswer['bite'];
export interface Frame {
  levels: Axis;
  reductions: Axis | null;
  right: number;
  gateBase: number | null;
}

/** Levels of sound, lowest and highest of what is not silence; the loudest twentieth from below counts as the lowest. */
function extent({ before_db, after_db, after_rms_db }: Bite): [number, number] {
  const all = [...before_db, ...after_db, ...after_rms_db].filter((v) => v > LOWEST_DB).sort((a, b) => a - b);
  if (!all.length) return [-48, 0];
  return [all[Math.floor(all.length / 20)]!, all.at(-1)!];
}

/** The axes: the levels fit the sound in steps of six decibels, with the threshold in sight. */
export function frameOf(bite: Bite | null, threshold: number | null, { width, height }: Box): Frame {
  const reduction = bite?.reduction_db ?? [];
  const gated = Boolean(bite?.rows['gate_state']?.length);
  const [softest, loudest] = bite ? extent(bite) : [-48, 0];
  const top = Math.ceil((Math.max(loudest, threshold ?? -Infinity) + 0.5) / 6) * 6;
  const high = clamp(top, -42, 12);
  const lowest = Math.min(Math.max(softest, high - MAX_SPAN_DB + 3), threshold ?? Infinity);
  const bottom = Math.floor((lowest - 3) / 6) * 6;
  /** From the levels to the reductions: a label's height, and the state of a gate. */
  const below = 14 + (gated ? GATE_HEIGHT + 2 : 0);
  const levels = {
    low: clamp(bottom, LOWEST_DB, high - MIN_SPAN_DB),
    high,
    from: reduction.length
      ? Math.min(height * 0.72 - 2, height - BOTTOM - MIN_GR_HEIGHT - below)
      : height - BOTTOM - 2,
    to: TOP,
  };
  const even = (v: number) => Math.ceil(v / 2) * 2;
  const most = Math.min(60, Math.max(6, ...reduction.map(even)));
  const rise = Math.min(24, Math.max(0, ...reduction.map((v) => even(-v))));
  return {
    levels,
    right: width - RIGHT,
    gateBase: gated ? levels.from + GATE_HEIGHT + 6 : null,
    reductions: reduction.length
      ? {
          low: rise,
          high: -most,
          from: levels.from + below,
          to: height - BOTTOM,
        }
      : null,
  };
}

export function grid({ levels, reductions, right }: Frame): Shape[] {
  const shapes = decibelGrid(levels, LEFT, right, String, 20);
  return reductions ? [...shapes, ...decibelGrid(reductions, LEFT, right, String, 16)] : shapes;
}

/** detector: whether the detector listens to something else than the sound. warn_db: beyond it a reduction is marked. */
export function shapesOf(bite: Bite, frame: Frame, detector: boolean, warn_db: number | null): Shape[] {
  const { levels, reductions, right, gateBase } = frame;
  const count = bite.before_db.length;
  const xs = columns(count, LEFT, right);
  const ys = (values: number[]) => values.map((v) => pixel(clamp(v, levels.low, levels.high), levels));
  const [peak, rms] = [ys(bite.after_db), ys(bite.after_rms_db)];
  const shapes = change(xs, ys(bite.before_db), peak, levels.from, 0.45);
  shapes.splice(1, 0, area(xs, rms.map((y, i) => Math.max(y, peak[i]!)), xs.map(() => levels.from), { ink: 'after' })); // prettier-ignore
  if (detector && bite.detector_db.length)
    shapes.push(line(xs, ys(bite.detector_db), { ink: 'key', width: 1.5 }));
  if (reductions) {
    const down = bite.reduction_db.map((v) => pixel(clamp(-v, reductions.high, reductions.low), reductions));
    shapes.push(...gain(xs, down, pixel(0, reductions), { ink: 'taken' }));
    if (warn_db !== null) {
      const y = pixel(-Math.min(warn_db, -reductions.high), reductions);
      shapes.push(rule(LEFT, y, right, y, { ink: 'taken', dash: [4, 3] }));
      bite.reduction_db.forEach((v, i) => {
        if (v > warn_db)
          shapes.push(
            box(xs[i]! - 0.5, y, Math.max(1, (right - LEFT) / count), down[i]! - y, { ink: 'taken' }),
          );
      });
    }
  }
  if (gateBase !== null) {
    // Open fills the row, hold half of it, closing is hatched, closed leaves it empty.
    const width = (right - LEFT) / count + 0.5;
    bite.rows['gate_state']!.forEach((state, i) => {
      const height = [0, GATE_HEIGHT / 2, GATE_HEIGHT / 2, GATE_HEIGHT][state]!;
      const fill = state === 1 ? ({ ink: 'key', pattern: 'hatch' } as const) : ({ ink: 'key' } as const);
      if (height) shapes.push(box(xs[i]! - width / 2, gateBase - height, width, height, fill));
    });
    shapes.push(rule(LEFT, gateBase, right, gateBase, { ink: 'line' }));
  }
  return shapes;
}

export function says(bite: Bite, threshold: number | null): string {
  const loudest = (values: number[]) => db(Math.max(...values));
  const most = Math.max(0, ...bite.reduction_db);
  const active = bite.reduction_db.filter((v) => v > 0.1).length / Math.max(1, bite.reduction_db.length);
  const open = bite.rows['gate_state']?.filter((state) => state === 3).length;
  return [
    `Peak ${loudest(bite.before_db)} dBFS before, ${loudest(bite.after_db)} after.`,
    threshold === null ? '' : `Threshold ${db(threshold)} dB.`,
    bite.reduction_db.length
      ? `Gain reduction up to ${db(most)} dB, more than 0.1 dB for ${Math.round(100 * active)} % of the time.`
      : '',
    open === undefined
      ? ''
      : `Fully open ${Math.round((100 * open) / bite.before_db.length)} % of the time, hold not counted.`,
  ]
    .filter(Boolean)
    .join(' ');
}
