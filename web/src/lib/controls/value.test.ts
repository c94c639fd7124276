import { describe, expect, it } from 'vitest';
import { format, formatSetting, fromShare, parse, parseSetting, tidy, toShare } from './value';

describe('typed values', () => {
  it.each([
    ['-18', 'dB', -18],
    ['-6dBFS', 'dB', -6],
    ['-6,5 dB', 'dB', -6.5],
    ['\u22126', 'dB', -6],
    ['+3 dB', 'dB', 3],
    ['4:1', ':1', 4],
    ['4', ':1', 4],
    ['2k5', 'Hz', 2500],
    ['1.2k', 'Hz', 1200],
    ['2,5 kHz', 'Hz', 2500],
    ['1.2 s', 'ms', 1200],
    ['50 %', '%', 0.5],
    ['50', '%', 0.5],
    ['12 ms', 's', 0.012],
  ])('%s in %s', (text, unit, value) => expect(parse(text, unit)).toEqual({ value }));

  it('off and minus infinity are off, where there is an off', () => {
    expect(parse('-inf', 'dB', -90)).toEqual({ value: -90 });
    expect(parse('off', 'dB', -90)).toEqual({ value: -90 });
    expect(parse('off', 'dB')).toEqual({ refused: 'It cannot be off.' });
  });

  it('says why not', () => {
    expect(parse('loud', 'dB')).toEqual({ refused: 'Type a number in dB.' });
    expect(parse('', ':1')).toEqual({ refused: 'Type a ratio like 4:1.' });
    expect(parse('6 Hz', 'dB')).toEqual({ refused: '"hz" does not fit: type a number in dB.' });
    const setting = { unit: 'dB', minimum: -60, maximum: 0, off_at: null };
    expect(parseSetting('3', setting)).toEqual({ refused: 'From -60.0 dB to 0.0 dB.' });
    expect(parseSetting('-60', setting)).toEqual({ value: -60 });
  });

  it('gains have a sign, ranges and reductions have none', () => {
    expect(formatSetting(6, { unit: 'dB', minimum: -12, off_at: null })).toBe('+6.0 dB');
    expect(formatSetting(6, { unit: 'dB', minimum: 0, off_at: null })).toBe('6.0 dB');
    expect(formatSetting(60, { unit: 'dB', minimum: 0, off_at: 60 })).toBe('off');
  });

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
      expect(parse(format(value, unit), unit)).toEqual({ value: expect.closeTo(value, 6) as number });
  });

  it('goes to a place on a scale and back', () => {
    const log = { minimum: 0.05, maximum: 250, scale: 'log' } as const;
    for (const value of [0.05, 1, 10, 250]) expect(fromShare(toShare(value, log), log)).toBeCloseTo(value, 9);
    expect(tidy(12.3456, 'dB')).toBe(12.3);
    expect(tidy(1234.5, 'Hz')).toBe(1235);
  });
});
