import { expect, test } from 'vitest';
import { bars, moved, rowsInSight } from './meters';

test('levels are shares of 60 dB, and the hardest step bites', () => {
  expect(bars([-30, -60], [-3, -12, 2])).toEqual({ input: 0.5, output: 0, bite: 0.5 });
  expect(bars(undefined, [])).toEqual({ input: 0, output: 0, bite: 0 });
  expect(bars([6, 0], [-48])).toEqual({ input: 1, output: 1, bite: 0.6 });
  expect(bars([0, 0], [-0.05]).bite).toBe(0);
});

test('what moved too little to be seen is not painted, but silence is', () => {
  const shown = bars([-30, -30], []);
  expect(moved(undefined, shown)).toBe(true);
  expect(moved(shown, bars([-30.1, -30], []))).toBe(false);
  expect(moved(shown, bars([-31, -30], []))).toBe(true);
  expect(moved({ input: 0.002, output: 0, bite: 0 }, { input: 0, output: 0, bite: 0 })).toBe(true);
});

test('only rows in sight are painted', () => {
  expect(rowsInSight(0, 280, 28, 60)).toEqual([0, 10]);
  expect(rowsInSight(30, 280, 28, 60)).toEqual([1, 12]);
  expect(rowsInSight(0, 600, 28, 3)).toEqual([0, 3]);
});
