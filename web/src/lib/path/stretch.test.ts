import { expect, test } from 'vitest';
import { overValue, stretchName, stretchOf } from './stretch';

const sections = [{ id: 'c', name: 'Chorus', start_s: 10, end_s: 20 }];
const passage = { start_s: 12.25, end_s: 14 };

test('a choice and the stretch it means lead to each other', () => {
  for (const value of ['', 'c']) expect(overValue(stretchOf(value, passage))).toBe(value);
  expect(stretchOf('passage', passage)).toEqual(passage);
  expect(overValue(passage)).toBe('range');
  expect(overValue({ section_id: null, start_s: null, end_s: null })).toBe('');
});

test('a stretch is called by its section or its seconds', () => {
  expect(stretchName({}, sections)).toBe('whole song');
  expect(stretchName({ section_id: 'c' }, sections)).toBe('Chorus');
  expect(stretchName({ start_s: 0, end_s: 1.26 }, sections)).toBe('0.0 to 1.3 s');
  expect(stretchName({ start_s: 34.3, end_s: 57.1 }, sections)).toBe('34 to 57 s');
});
