/** The transient shaper's envelopes, and beneath them the gain they make. */
import type { ScopeAnswer } from '../../api/client';
import { clamp } from '../../controls/value';
import { pixel, type Axis } from '../../draw/scale';
import {
  area,
  columns,
  db,
  decibelGrid,
  gain as hatched,
  line,
  type Box,
  type Shape,
} from '../../draw/shapes';

export const LEFT = 40;
export const RIGHT = 8;
const ROOM = 16;

type Bite = ScopeAnswer['bite'];
export interface Axes {
  levels: Axis;
  gains: Axis;
  right: number;
}

export function axesOf(bite: Bite | null, { width, height }: Box): Axes {
  const gains = (bite?.reduction_db ?? []).map((v) => Math.ceil(Math.abs(v) / 6) * 6);
  const most = Math.max(6, ...gains);
  return {
    levels: { low: -60, high: 0, from: height * 0.62, to: 28 },
    gains: { low: -most, high: most, from: height - 20, to: height * 0.62 + 16 },
    right: width - RIGHT,
  };
}

export const grid = ({ levels, gains, right }: Axes): Shape[] => [
  ...decibelGrid(levels, LEFT, right, String, ROOM),
  ...decibelGrid(gains, LEFT, right, (value) => (value > 0 ? `+${value}` : String(value)), ROOM),
];

export function shapesOf(bite: Bite, { levels, gains, right }: Axes): Shape[] {
  const { rows, reduction_db } = bite;
  if (!rows['quick_db']?.length) return [];
  const xs = columns(rows['quick_db'].length, LEFT, right);
  const place = (name: string) => rows[name]!.map((v) => pixel(clamp(v, levels.low, levels.high), levels));
  const [quick, slow] = [place('quick_db'), place('slow_db')];
  return [
    // Where the quick envelope stands over the slow one is attack; where the lingering one stands over what is, sustain.
    area(xs, quick.map((y, i) => Math.min(y, slow[i]!)), slow, { ink: 'after', pattern: 'grain' }), // prettier-ignore
    line(xs, quick, { ink: 'after', width: 1.5 }),
    line(xs, slow, { ink: 'ink' }),
    line(xs, place('now_db'), { ink: 'soft' }),
    line(xs, place('lingering_db'), { ink: 'soft', dash: [4, 3] }),
    ...hatched(
      xs,
      reduction_db.map((v) => pixel(-v, gains)),
      pixel(0, gains),
      { ink: 'ink' },
    ),
  ];
}

export function says({ reduction_db }: Bite): string {
  const gains = reduction_db.map((v) => -v);
  return `Gain from ${db(Math.min(0, ...gains))} to ${db(Math.max(0, ...gains))} dB.`;
}
