/** The waveform with the ceiling across it, and beneath it a mark wherever something was cut. */
import type { ScopeAnswer } from '../../api/client';
import { clamp } from '../../controls/value';
import { pixel, type Axis } from '../../draw/scale';
import { area, box as filled, columns, db, line, rule, text, type Box, type Shape } from '../../draw/shapes';

export const LEFT = 40;
export const RIGHT = 8;
const MARKS = 10;
/** Two seconds are seen around the playhead. */
const WINDOW_S = 2;
const TICKS_DB = [0, -6, -12, -18, -24, -36];
/** A difference beyond this is a cut, linear. */
const CUT = 2e-4;

type Bite = ScopeAnswer['bite'];
export type Sides = 'two' | 'one';

/** Wave before and after, linear; `cut` is the largest difference in each column. */
export interface Wave {
  high: number[];
  low: number[];
  afterHigh: number[];
  afterLow: number[];
  cut: number[];
}

/** The columns around the playhead, at three quarters of the picture. */
export function windowAround(
  position_s: number,
  start_s: number,
  end_s: number,
  count: number,
): [number, number] {
  const each = (end_s - start_s) / count;
  const wide = Math.min(count, Math.round(WINDOW_S / each));
  const from = clamp(Math.round((position_s - start_s) / each - 0.75 * wide), 0, count - wide);
  return [from, from + wide];
}

/** gain: of what the step leaves untouched, linear, so that before and after lie on each other there. */
export function waveOf(bite: Bite, [from, to]: [number, number], sides: Sides, gain: number): Wave {
  const part = (values: number[]) => values.slice(from, to);
  const [low, high] = [part(bite.before_low), part(bite.before_high)];
  const [afterLow, afterHigh] = [part(bite.after_low), part(bite.after_high)];
  const cut = part(bite.touched);
  const louder = (a: number[], b: number[]) => a.map((v, i) => Math.max(-v, b[i]!));
  const scaled = (values: number[]) => values.map((v) => v * gain);
  if (sides === 'two') return { high: scaled(high), low: scaled(low), afterHigh, afterLow, cut };
  const none = high.map(() => 0);
  return {
    high: scaled(louder(low, high)),
    low: none,
    afterHigh: louder(afterLow, afterHigh),
    afterLow: none,
    cut,
  };
}

export const cuts = (wave: Wave): number => wave.cut.filter((v) => v > CUT).length;

/** The axis, linear: what is before, and the ceiling, in sight. */
export function axisOf(wave: Wave | null, ceiling: number | null, sides: Sides, { height }: Box): Axis {
  const lows = (wave?.low ?? []).map((v) => -v);
  const most = Math.max(0.05, (ceiling ?? 0) * 1.15, ...(wave?.high ?? []), ...lows) * 1.04;
  return { low: sides === 'two' ? -most : 0, high: most, from: height - 22 - MARKS, to: 28 };
}

export function grid(ys: Axis, sides: Sides, { width }: Box): Shape[] {
  const right = width - RIGHT;
  const zero = pixel(0, ys);
  const shapes: Shape[] = [];
  let last = Infinity;
  for (const tick of TICKS_DB) {
    const v = 10 ** (tick / 20);
    const y = pixel(v, ys);
    if (v > ys.high || Math.abs(y - last) < 13 || (tick < 0 && Math.abs(y - zero) < 10)) continue;
    last = y;
    for (const at of sides === 'two' ? [y, pixel(-v, ys)] : [y])
      shapes.push(rule(LEFT, at, right, at, { ink: 'line' }), text(LEFT - 6, at, String(tick), 'right'));
  }
  return [...shapes, rule(LEFT, zero, right, zero, { ink: 'soft' })];
}

export function shapesOf(wave: Wave, ys: Axis, sides: Sides, { width }: Box): Shape[] {
  const right = width - RIGHT;
  const count = wave.high.length;
  const xs = columns(count, LEFT, right);
  const at = (values: number[]) => values.map((v) => pixel(v, ys));
  const [high, low, afterHigh, afterLow] = [wave.high, wave.low, wave.afterHigh, wave.afterLow].map(at) as [number[], number[], number[], number[]]; // prettier-ignore
  const taken = { ink: 'taken', pattern: 'hatch' } as const;
  const shapes = [
    area(xs, afterHigh, afterLow, { ink: 'after' }),
    area(xs, high.map((y, i) => Math.min(y, afterHigh[i]!)), afterHigh, taken), // prettier-ignore
    area(xs, afterLow, low.map((y, i) => Math.max(y, afterLow[i]!)), taken), // prettier-ignore
    line(xs, high, { ink: 'soft' }),
  ];
  if (sides === 'two') shapes.push(line(xs, low, { ink: 'soft' }));
  wave.cut.forEach((v, i) => {
    if (v > CUT)
      shapes.push(
        filled(xs[i]! - 0.5, ys.from + 4, Math.max(1, (right - LEFT) / count), MARKS - 3, { ink: 'taken' }),
      );
  });
  return shapes;
}

export function says(wave: Wave, ceiling_db: number | null): string {
  const peak = (high: number[], low: number[]) =>
    db(20 * Math.log10(Math.max(1e-5, ...high, ...low.map((v) => -v))));
  const share = Math.round((100 * cuts(wave)) / Math.max(1, wave.cut.length));
  return (
    `Peak ${peak(wave.high, wave.low)} dBFS before, ${peak(wave.afterHigh, wave.afterLow)} after; ` +
    (ceiling_db === null ? '' : `ceiling ${db(ceiling_db)} dB; `) +
    `cut in ${share} % of the columns.`
  );
}
