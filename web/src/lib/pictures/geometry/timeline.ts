/** The waveform of a strip under bars and beats. */
import type { OverviewAnswer } from '../../api/client';
import { ticks, type Grid } from '../../draw/grid';
import { area, line, rule, text, type Box, type Shape } from '../../draw/shapes';

export const RULER = 16;
/** The sections' row beneath the ruler. */
export const ROW = 22;

export interface Span {
  from_s: number;
  to_s: number;
}

export const xOf = (at_s: number, { from_s, to_s }: Span, width: number): number =>
  ((at_s - from_s) / (to_s - from_s)) * width;

export const ruler = (span: Span, grid: Grid, { width }: Box): Shape[] =>
  ticks(span.from_s, span.to_s, width, grid).flatMap((tick) => {
    const x = xOf(tick.at_s, span, width);
    const mark = rule(x, tick.label === null ? RULER - 4 : RULER - 10, x, RULER, { ink: 'line' });
    return tick.label !== null && x < width - 24 ? [mark, text(x + 4, 8, tick.label)] : [mark];
  });

/** length_s: of what the overview's columns stand for. */
export function shapesOf(
  overview: OverviewAnswer,
  length_s: number,
  span: Span,
  { width, height }: Box,
): Shape[] {
  const top = RULER + ROW;
  const middle = top + (height - top) / 2;
  const { before_low, before_high, after_low, after_high } = overview;
  const magnitude = (most: number, value: number) => Math.max(most, Math.abs(value));
  const largest = [before_low, before_high, after_low, after_high].reduce(
    (most, values) => values.reduce(magnitude, most),
    0.05,
  );
  const count = before_low.length;
  const first = Math.max(0, Math.floor((span.from_s / length_s) * count) - 1);
  const last = Math.min(count, Math.ceil((span.to_s / length_s) * count) + 1);
  const xs = Array.from({ length: Math.max(0, last - first) }, (_, i) =>
    xOf(((first + i + 0.5) / count) * length_s, span, width),
  );
  const ys = (values: number[]) =>
    values.slice(first, last).map((v) => middle - (v / largest) * (middle - top - 2));
  const [bl, bh, al, ah] = [ys(before_low), ys(before_high), ys(after_low), ys(after_high)];
  const outer = (a: number[], b: number[], pick: (...values: number[]) => number) =>
    a.map((y, i) => pick(y, b[i]!));
  return [
    area(xs, outer(bh, ah, Math.min), outer(bl, al, Math.max), { ink: 'taken', pattern: 'hatch' }),
    area(xs, ah, al, { ink: 'after' }),
    line(xs, bh, { ink: 'soft' }),
    line(xs, bl, { ink: 'soft' }),
  ];
}
