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

test('what most would mean comes first', () => {
  const all = [
    { name: 'Compressor', what: 'Holds the level.', words: ['dynamics', 'bus compressor'] },
    { name: 'De-esser', what: 'Softens s and sh.', words: ['sibilance', 'dynamic EQ'] },
    { name: 'Equaliser', what: 'Bells and shelves.', words: ['EQ', 'low cut', 'high cut', 'tilt'] },
    { name: 'Limiter', what: 'Holds a ceiling.', words: ['maximizer'] },
    { name: 'four-band compressor', what: 'Ready-made.', words: ['multiband'] },
    { name: 'Bands', what: 'Each band with steps of its own.', words: ['multiband', 'crossover'] },
  ];
  const first = (search: string) => searched(all, search)[0]?.name;
  expect(
    ['ess', 'eq', 'low cut', 'high cut', 'tilt', 'maximizer', 'bus compressor', 'comp'].map(first),
  ).toEqual([
    'De-esser',
    'Equaliser',
    'Equaliser',
    'Equaliser',
    'Equaliser',
    'Limiter',
    'Compressor',
    'Compressor',
  ]);
  expect(['multiband', 'four-band', 'four band'].map(first)).toEqual(Array(3).fill('four-band compressor'));
  expect(first('bands')).toBe('Bands');
});
