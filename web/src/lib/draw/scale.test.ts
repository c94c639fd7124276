import { expect, it } from 'vitest';
import { clock, decibelTicks, pixel, valueAt } from './scale';

it('maps values to pixels and back', () => {
  const axis = { low: -48, high: 0, from: 200, to: 20 };
  expect(pixel(-48, axis)).toBe(200);
  expect(valueAt(pixel(-17.3, axis), axis)).toBeCloseTo(-17.3);
});

it('chooses round ticks', () => {
  expect(decibelTicks(-36, 0, 7)).toEqual([-36, -30, -24, -18, -12, -6, 0]);
  expect(decibelTicks(-8, 0, 4)).toEqual([-8, -6, -4, -2, 0]);
});

it('shows time in minutes', () => {
  expect(clock(46.2141)).toBe('0:46.214');
  expect(clock(125)).toBe('2:05.000');
});
