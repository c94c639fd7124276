import { expect, test } from 'vitest';
import { tapTempo } from './tap';

test('four taps tell a tempo, and a late one moves it little', () => {
  expect(tapTempo([0, 500, 1000])).toBeNull();
  expect(tapTempo([0, 500, 1000, 1500])).toBe(120);
  expect(tapTempo([0, 500, 1000, 1540, 2000, 2500, 3000, 3500])).toBeCloseTo(120, -0.5);
  expect(tapTempo([0, 714.3, 1428.6, 2142.9])).toBe(84);
});

test('a pause begins anew, and what no session can have is none', () => {
  expect(tapTempo([0, 500, 1000, 9000, 9600, 10200, 10800])).toBe(100);
  expect(tapTempo([0, 100, 200, 300, 400])).toBeNull();
});
