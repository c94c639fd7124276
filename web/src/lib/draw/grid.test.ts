import { expect, test } from 'vitest';
import { barFrom, barsAndBeats, parsePlace, parseStart, ticks, toBeat } from './grid';

const grid = { tempo_bpm: 120, beats_in_bar: 4, bar_one_s: 0 };
const later = { tempo_bpm: 90, beats_in_bar: 3, bar_one_s: 1.5 };

test('bars are counted from where bar 1 begins', () => {
  expect(barsAndBeats(0, { ...grid, tempo_bpm: 84 })).toBe('1.1.1');
  expect(barsAndBeats((16 * 240 + 60 + 30) / 84, { ...grid, tempo_bpm: 84 })).toBe('17.2.3');
  expect(barsAndBeats(1.5, later)).toBe('1.1.1');
  expect(barsAndBeats(1.5 + 2 + 2 / 3, later)).toBe('2.2.1');
  expect(barsAndBeats(0, later)).toBe('0.1.4');
});

test('a typed place is read as it is shown', () => {
  for (const at of [1.5, 3.5, 7.5 + 2 / 3])
    expect(parsePlace(barsAndBeats(at, later), later)).toBeCloseTo(at, 9);
  expect(parsePlace('3', grid)).toBe(4);
  expect(parsePlace('2.3', grid)).toBe(3);
  expect(parsePlace('12.5 s', grid)).toBe(12.5);
  expect(parsePlace('1:02,5', grid)).toBe(62.5);
  expect(parsePlace('0', grid)).toBeNull(); // before the session
  expect(parsePlace('soon', grid)).toBeNull();
});

test('beats snap and bars step', () => {
  expect(toBeat(1.1, grid)).toBe(1);
  expect(toBeat(0.2, later)).toBeCloseTo(1.5 - 4 / 3, 9);
  expect(barFrom(5, 1, grid)).toBe(6);
  expect(barFrom(5, -1, grid)).toBe(4);
  expect(barFrom(4, -1, grid)).toBe(2);
  expect(barFrom(1, -1, grid)).toBe(0);
});

test('numbers of bars keep their distance', () => {
  const near = ticks(0, 8, 800, grid);
  expect(near.filter((tick) => tick.label).map((tick) => tick.label)).toEqual(['1', '2', '3', '4', '5']);
  expect(near.length).toBe(17); // with beats
  const far = ticks(0, 600, 800, grid).filter((tick) => tick.label);
  expect(far[1]!.at_s - far[0]!.at_s).toBe(64);
  expect(far.map((tick) => Number(tick.label))[1]).toBe(33);
});

test('reads where a file begins, also before the session', () => {
  const read = (text: string) => parseStart(text, grid, 48000);
  expect([read('12.5 s'), read('-0,25 s'), read('-250 ms'), read('1:02.5'), read('-1:00')]).toEqual([
    12.5, -0.25, -0.25, 62.5, -60,
  ]);
  expect([read('96000 samples'), read('-1 smp'), read('3.1'), read('3')]).toEqual([2, -1 / 48000, 4, 4]);
  expect([read(''), read('-3'), read('later')]).toEqual([null, null, null]);
});
