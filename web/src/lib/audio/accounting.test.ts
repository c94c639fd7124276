import { expect, test } from 'vitest';
import { Accounting } from './accounting';
import type { BlockHeader } from './protocol';

const header = (sequence: number, short_term_lufs: number, epoch = 1) =>
  ({ epoch, sequence, position_s: sequence / 10, short_term_lufs }) as BlockHeader;
const heard = (sequence: number, offset = 0, epoch = 1, underruns = 0, late = 0) => ({
  epoch,
  sequence,
  offset,
  underruns,
  late,
  frames: 0,
});

test('figures are those of the block that sounds, replaced ones included', () => {
  const accounting = new Accounting(48000);
  for (let n = 0; n < 3; n += 1) accounting.take(header(n, -20), 1);
  expect(accounting.report(heard(0, 480))).toMatchObject({ position_s: 0.01, energy: 0 });
  accounting.take(header(1, -30), 4);
  accounting.take(header(2, -31), 5);
  accounting.take(header(0, -99), 9); // too late for the ear, and replaced all the same: it has not ended
  expect(accounting.report(heard(1))?.header.short_term_lufs).toBe(-30);
  const last = accounting.report(heard(2));
  expect(last?.header.short_term_lufs).toBe(-31);
  expect(last?.energy).toBe(9 + 4);
  accounting.take(header(1, -50), 1); // heard long ago
  expect(accounting.report(heard(2))?.header.short_term_lufs).toBe(-31);
  expect(accounting.report(heard(3))).toBeNull();
});

test('another play begins anew, and gaps are counted once', () => {
  const accounting = new Accounting(48000);
  accounting.take(header(0, -20), 3);
  accounting.take(header(0, -10, 2), 1);
  expect(accounting.report(heard(0, 0, 1))).toBeNull();
  expect(accounting.report(heard(0, 0, 2))).toMatchObject({ energy: 0 });
  expect(accounting.since(heard(0, 0, 2, 1, 2))).toEqual({ underruns: 1, late: 2 });
  expect(accounting.since(heard(0, 0, 2, 1, 5))).toEqual({ underruns: 0, late: 3 });
  expect(accounting.since(heard(0, 0, 3, 1))).toEqual({ underruns: 1, late: 0 });
});
