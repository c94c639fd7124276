import { describe, expect, it } from 'vitest';
import type { BenchResult } from '../api/client';
import { figureText, hz, logTicks, plainTicks, roundTicks, xSpan, ySpan } from './chart';

const result = (more: Partial<BenchResult>): BenchResult => ({
  test: 'noise',
  figures: [],
  lines: [],
  x_label: 'Hz',
  y_label: 'dB',
  log_x: true,
  marks: [],
  columns: [],
  table: [],
  grid: [],
  grid_x: [],
  grid_y: [],
  ...more,
});

describe('axes of the bench', () => {
  it('hold every line that is shown, in whole steps', () => {
    const one = result({ lines: [{ name: 'a', x: [20, 1000], y: [-100.5, -3] }] });
    const two = result({ lines: [{ name: 'b', x: [50, 20000], y: [-300, 2] }] });
    expect(xSpan([one, two])).toEqual({ low: Math.log10(20), high: Math.log10(20000) });
    expect(ySpan([one, two])).toEqual({ low: -168, high: 12 });
    expect(ySpan([result({ lines: [{ name: 'c', x: [0, 1], y: [0, 0] }] })])).toEqual({ low: 0, high: 3 });
  });

  it('have frequencies on both sides of a picture in two dimensions', () => {
    const grid = result({ grid: [[0]], grid_x: [100, 18000], grid_y: [25, 20000] });
    expect(ySpan([grid]).high).toBeCloseTo(Math.log10(20000));
    expect(logTicks(xSpan([grid])).map((tick) => tick.text)).toEqual([
      '100', '200', '500', '1k', '2k', '5k', '10k',
    ]); // prettier-ignore
  });

  it('have round ticks', () => {
    expect(plainTicks({ low: -36, high: 0 }, 4).map((tick) => tick.at)).toEqual([-36, -24, -12, 0]);
    expect(roundTicks({ low: -50, high: 2380 }, 6).map((tick) => tick.at)).toEqual([
      0, 500, 1000, 1500, 2000,
    ]);
    expect(hz(16380)).toBe('16.4k');
  });

  it('write figures as they are read', () => {
    expect([null, -0.0001, 0.0312, -17.654, -120.32, 16380].map(figureText)).toEqual([
      '--', '0.000', '0.031', '-17.65', '-120.3', '16380',
    ]); // prettier-ignore
  });
});
