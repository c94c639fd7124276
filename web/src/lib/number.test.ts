import { expect, test } from 'vitest';
import { bytesText, levelText, numberText } from './number';

test('numbers have their digits, no negative zero, and a dash where there is none', () => {
  expect([numberText(-12), numberText(0.004, 2), numberText(-0.004, 2), numberText(1234.56)]).toEqual([
    '-12.0',
    '0.00',
    '0.00',
    '1234.6',
  ]);
  expect([numberText(null), numberText(undefined, 2), numberText(NaN)]).toEqual(['--', '--', '--']);
});

test('changes have a plus above zero and none at it', () => {
  expect([0.3, -0.3, 0.04, -0.04].map((value) => numberText(value, 1, true))).toEqual([
    '+0.3',
    '-0.3',
    '0.0',
    '0.0',
  ]);
});

test('levels of silence have no digits', () => {
  expect([levelText(-160), levelText(-99.94, 2), levelText(null)]).toEqual(['-160', '-99.94', '--']);
});

test('sizes of files count in powers of ten', () => {
  expect([480, 51_400, 5_140_000, 51_400_000, 2_540_000_000].map(bytesText)).toEqual([
    '0 KB',
    '51 KB',
    '5.1 MB',
    '51 MB',
    '2.5 GB',
  ]);
});
