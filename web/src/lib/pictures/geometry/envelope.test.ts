import { expect, test } from 'vitest';
import type { Breakpoint, Setting } from '../../api/client';
import {
  apart,
  between,
  courseShapes,
  gridShapes,
  HANDLE,
  labelsOf,
  seenOf,
  snappedTo,
  valueOf,
  yOf,
} from './envelope';

const BOX = { width: 800, height: 72 };
const GAIN = { minimum: -60, maximum: 24, scale: 'linear', unit: 'dB', ticks: [-48, -24, 0, 12], off_at: null } as unknown as Setting; // prettier-ignore
const CUT = { minimum: 20, maximum: 20000, scale: 'log', unit: 'Hz', ticks: [100, 1000, 10000], off_at: null } as unknown as Setting; // prettier-ignore
const SPAN = { from_s: 10, to_s: 50 };

test('the axis shows the values with a margin, and at least a quarter of the scale', () => {
  const wide = seenOf([-60, 24], GAIN);
  expect(wide).toEqual({ low: 0, high: 1 });
  const narrow = seenOf([-3, -1], GAIN);
  expect(narrow.high - narrow.low).toBeCloseTo(0.25);
  for (const value of [-3, -1]) {
    const y = yOf(value, GAIN, narrow, BOX);
    expect(y).toBeGreaterThan(7);
    expect(y).toBeLessThan(65);
  }
  expect(seenOf([], GAIN)).toEqual({ low: 0, high: 1 });
});

test('a height is the value whose height it is, on any scale', () => {
  for (const [setting, values] of [
    [GAIN, [-50, -6, 11]],
    [CUT, [30, 440, 9000]],
  ] as const) {
    const seen = seenOf([...values], setting);
    for (const value of values)
      expect(valueOf(yOf(value, setting, seen, BOX), setting, seen, BOX)).toBeCloseTo(value, 6);
  }
  const [low, middle, high] = [100, 1000, 10000].map((hz) => yOf(hz, CUT, { low: 0, high: 1 }, BOX)) as [number, number, number]; // prettier-ignore
  expect(low - middle).toBeCloseTo(middle - high); // a decade is a decade
});

test('labels have their unit and do not lie on each other', () => {
  const labels = labelsOf(CUT, { low: 0, high: 1 }, BOX);
  expect(labels.map(({ label }) => label)).toContain('1 kHz');
  const ys = labels.map(({ y }) => y).sort((a, b) => a - b);
  for (const [n, y] of ys.slice(1).entries()) expect(y - ys[n]!).toBeGreaterThanOrEqual(14);
  for (const shape of gridShapes(CUT, { low: 0, high: 1 }, SPAN, [20], BOX))
    if (shape.type === 'text') {
      expect(shape.y).toBeGreaterThan(4);
      expect(shape.y).toBeLessThan(68);
    }
});

test('the course is level before its first point and after its last', () => {
  const seen = seenOf([-12, 0], GAIN);
  const [shape] = courseShapes(
    { times_s: [20, 30], values: [0, -12], still: 0 },
    GAIN,
    seen,
    SPAN,
    BOX,
    true,
  );
  if (shape?.type !== 'line') throw new Error('no line');
  expect(shape.xs).toEqual([-1, 200, 400, 801]);
  expect(shape.ys[0]).toBe(shape.ys[1]);
  expect(shape.ys[3]).toBe(shape.ys[2]);
  const [still] = courseShapes({ times_s: [], values: [], still: -12 }, GAIN, seen, SPAN, BOX, false);
  if (still?.type !== 'line') throw new Error('no line');
  expect(still.ys[0]).toBe(still.ys[1]);
  expect(still.stroke.dash).toBeDefined();
});

test('places snap to beats and to borders of sections', () => {
  const grid = { tempo_bpm: 120, beats_in_bar: 4, bar_one_s: 0 };
  expect(snappedTo(1.2, grid, [])).toBe(1);
  expect(snappedTo(1.2, grid, [{ start_s: 1.23, end_s: 9 }])).toBe(1.23);
  const points = [1, 2, 3].map((at_s) => ({ at_s }) as Breakpoint);
  expect(between(points, 2.5, 1).map(({ at_s }) => at_s)).toEqual([1, 2]);
});

test('of handles that would lie over each other one is shown, and always the chosen one', () => {
  const places = Array.from({ length: 200 }, (_, n) => ({
    id: String(n),
    x: n * 3,
    y: 36 + 30 * Math.sin(n / 9),
  }));
  const shown = apart(places, '101');
  expect(shown.map(({ id }) => id)).toContain('101');
  for (const [n, one] of shown.entries())
    for (const other of shown.slice(n + 1))
      expect(Math.max(Math.abs(one.x - other.x), Math.abs(one.y - other.y))).toBeGreaterThanOrEqual(HANDLE);
  // Each that is left out would have lain over one that is shown.
  for (const place of places)
    expect(
      shown.some((one) => Math.abs(one.x - place.x) < HANDLE && Math.abs(one.y - place.y) < HANDLE),
    ).toBe(true);
  expect(apart([places[0]!, places[20]!], null)).toHaveLength(2);
});
