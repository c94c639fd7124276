/** A lane of the timeline: the course of one value on its own scale, its points, and what a press in it means. Pure functions. */
import type { Breakpoint, Setting } from '../../api/client';
import { clamp, formatSetting, fromShare, toShare } from '../../controls/value';
import { toBeat, type Grid } from '../../draw/grid';
import { line, rule, text, type Box, type Shape, type Stroke } from '../../draw/shapes';
import { xOf, type Span } from './timeline';

/** Room above and beneath, in pixels. */
const EDGE = 7;
/** The axis shows no less of the scale than this, and so much beyond the values. */
const MIN_SHARE = 0.25;
const MARGIN = 0.15;

/** The part of a setting's scale that is seen, as shares of it. */
export interface Seen {
  low: number;
  high: number;
}

/** What is to be seen of a scale: the values with a margin. */
export function seenOf(values: number[], setting: Setting): Seen {
  const shares = values.map((value) => toShare(value, setting));
  const low = Math.min(...shares, 1);
  const high = Math.max(...shares, 0);
  if (!values.length || high < low) return { low: 0, high: 1 };
  const width = Math.max(MIN_SHARE, high - low + 2 * MARGIN * (high - low));
  const middle = (low + high) / 2;
  const start = clamp(middle - width / 2, 0, Math.max(0, 1 - width));
  return { low: start, high: Math.min(1, start + width) };
}

export const yOf = (value: number, setting: Setting, { low, high }: Seen, { height }: Box): number =>
  height - EDGE - ((toShare(value, setting) - low) / (high - low)) * (height - 2 * EDGE);

/** The value at a height; beyond the picture too, so that a drag can leave it. */
export function valueOf(y: number, setting: Setting, { low, high }: Seen, { height }: Box): number {
  const share = low + ((height - EDGE - y) / (height - 2 * EDGE)) * (high - low);
  return fromShare(clamp(share, 0, 1), setting);
}

/** A place that snaps to the nearest beat or border of a section. */
export function snappedTo(at_s: number, grid: Grid, sections: { start_s: number; end_s: number }[]): number {
  const places = [toBeat(at_s, grid), ...sections.flatMap(({ start_s, end_s }) => [start_s, end_s])];
  return places.reduce((best, place) => (Math.abs(place - at_s) < Math.abs(best - at_s) ? place : best));
}

/** Two or three values of the axis that are not too near to each other. */
export function labelsOf(
  setting: Setting,
  seen: Seen,
  box: Box,
): { value: number; label: string; y: number }[] {
  const ends = [fromShare(seen.high, setting), fromShare(seen.low, setting)];
  const inside = setting.ticks.filter((tick) => {
    const share = toShare(tick, setting);
    return share > seen.low && share < seen.high;
  });
  const result: { value: number; label: string; y: number }[] = [];
  for (const value of [...ends, ...inside]) {
    const at = yOf(value, setting, seen, box);
    const y = at < box.height / 2 ? at + 8 : at - 7; // beneath its line, or above it
    if (result.every((other) => Math.abs(other.y - y) >= 14))
      result.push({ value, y, label: formatSetting(Number(value.toPrecision(3)), setting) });
  }
  return result;
}

export function gridShapes(setting: Setting, seen: Seen, span: Span, borders: number[], box: Box): Shape[] {
  return [
    ...borders
      .filter((at) => at > span.from_s && at < span.to_s)
      .map((at) => {
        const x = xOf(at, span, box.width);
        return rule(x, 0, x, box.height, { ink: 'line' });
      }),
    ...labelsOf(setting, seen, box).flatMap(({ value, label, y }) => {
      const at = yOf(value, setting, seen, box);
      return [rule(0, at, box.width, at, { ink: 'line' }), text(box.width - 4, y, label, 'right')];
    }),
  ];
}

/** The course as the server tells it, level before its first point and after its last; `still` where nothing moves. */
export function courseShapes(
  course: { times_s: number[]; values: number[]; still: number },
  setting: Setting,
  seen: Seen,
  span: Span,
  box: Box,
  on: boolean,
): Shape[] {
  const { times_s, values } = course;
  const stroke: Stroke = on ? { ink: 'after', width: 1.5 } : { ink: 'soft', dash: [4, 3] };
  const y = (value: number) => yOf(value, setting, seen, box);
  if (!times_s.length) return [line([0, box.width], [y(course.still), y(course.still)], stroke)];
  const xs = [-1, ...times_s.map((at) => xOf(at, span, box.width)), box.width + 1];
  const ys = [y(values[0]!), ...values.map(y), y(values.at(-1)!)];
  return [line(xs, ys, stroke)];
}

/** A handle is so large, in pixels. */
export const HANDLE = 13;

/** Which handles are shown, of places in order of x: none lies over another, and the chosen one always is among them. */
export function apart<P extends { id: string; x: number; y: number }>(
  places: P[],
  chosen: string | null,
): P[] {
  const one = places.find(({ id }) => id === chosen);
  const meets = (a: P, b: P) => Math.abs(a.x - b.x) < HANDLE && Math.abs(a.y - b.y) < HANDLE;
  const kept: P[] = [];
  for (const place of places) {
    if (place !== one && one && meets(place, one)) continue;
    let near = kept.length - 1;
    while (near >= 0 && place.x - kept[near]!.x < HANDLE && !meets(place, kept[near]!)) near -= 1;
    if (near < 0 || !meets(place, kept[near]!)) kept.push(place);
  }
  return kept;
}

/** Points of a stretch of time. */
export const between = (points: Breakpoint[], from_s: number, to_s: number): Breakpoint[] =>
  points.filter((point) => point.at_s >= Math.min(from_s, to_s) && point.at_s <= Math.max(from_s, to_s));
