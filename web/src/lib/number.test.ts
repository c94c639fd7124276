import { expect, test } from 'vitest';
import { levelText, numberText } from './number';

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
