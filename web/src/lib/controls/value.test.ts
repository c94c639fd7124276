import { describe, expect, it } from 'vitest';
import { format, fromShare, parse, tidy, toShare } from './value';

describe('typed values', () => {
  it.each([
    ['-18', 'dB', -18],
    ['4:1', ':1', 4],
    ['2k5', 'Hz', 2500],
    ['1.2 s', 'ms', 1200],
    ['50 %', '%', 0.5],
    ['2,5 kHz', 'Hz', 2500],
    ['loud', 'dB', null],
    ['', 'dB', null],
  ])('%s as %s', (text, unit, value) => expect(parse(text, unit)).toBe(value));

  it('reads back what it writes', () => {
    for (const [value, unit] of [
      [-18.3, 'dB'],
      [0.25, '%'],
      [4, ':1'],
      [2500, 'Hz'],
      [80, 'Hz'],
      [0.05, 'ms'],
      [1500, 'ms'],
    ] as const)
      expect(parse(format(value, unit).replace(' : ', ':'), unit)).toBeCloseTo(value, 6);
  });

  it('goes to a place on a scale and back', () => {
    const log = { minimum: 0.05, maximum: 250, scale: 'log' } as const;
    for (const value of [0.05, 1, 10, 250]) expect(fromShare(toShare(value, log), log)).toBeCloseTo(value, 9);
    expect(tidy(12.3456, 'dB')).toBe(12.3);
    expect(tidy(1234.5, 'Hz')).toBe(1235);
  });
});
