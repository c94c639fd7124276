import { expect, test } from 'vitest';
import { searched } from './search';

const items = [
  { name: 'Compressor', what: 'Takes level above a threshold down.', words: ['glue', 'sidechain'] },
  { name: 'Equaliser', what: 'Bells, shelves and filters.', words: ['EQ', 'high-pass', 'HPF'] },
  { name: 'Clipper', what: 'Cuts peaks off; no compressor.', words: ['soft clip', 'distortion'] },
];
const names = (search: string) => searched(items, search).map((item) => item.name);

test('names come before other words, and those before what only tells of it', () => {
  expect(names('compressor')).toEqual(['Compressor', 'Clipper']);
  expect(names('highpass')).toEqual(['Equaliser']);
  expect(names('high pass')).toEqual(['Equaliser']);
  expect(names('hpf')).toEqual(['Equaliser']);
  expect(names('soft clip')).toEqual(['Clipper']);
  expect(names('peaks cuts')).toEqual(['Clipper']);
  expect(names('toaster')).toEqual([]);
  expect(names('')).toHaveLength(3);
});
