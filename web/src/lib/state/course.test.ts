import { expect, test } from 'vitest';
import type { Section, Session, Setting } from '../api/client';
import {
  baseFor,
  canMove,
  distance,
  envelopeOf,
  isSwitch,
  keyOf,
  sectionAt,
  sectionOf,
  valueAt,
} from './course';

const DB = { minimum: -60, maximum: 12, scale: 'linear' } as const;
const HZ = { minimum: 20, maximum: 20000, scale: 'log' } as const;
const LINE = { times_s: [1, 2, 2, 4], values: [0, 10, -10, -10] };

test('a line is read straight between its points, and at a jump the later one holds', () => {
  expect([0, 1, 1.5, 1.999999, 2, 3, 9].map((at) => Math.round(valueAt(LINE, DB, at)))).toEqual([
    0, 0, 5, 10, -10, -10, -10,
  ]);
  expect(valueAt({ times_s: [0, 1], values: [100, 1600] }, HZ, 0.5)).toBeCloseTo(400);
});

test('a hand moves the base of what is under a lever by as much', () => {
  expect(baseFor(-10, -20, -14, DB)).toBe(-4);
  expect(baseFor(100, 400, 800, HZ)).toBeCloseTo(200);
  expect(baseFor(-10, -20, 100, DB)).toBe(12);
  expect([distance(-10, -4, DB), distance(100, 400, HZ)]).toEqual([6, 4]);
});

test('a section is that of a place, or one that a passage lies in whole', () => {
  const sections = [
    { id: 'v', name: 'Verse', start_s: 0, end_s: 8 },
    { id: 'c', name: 'Chorus', start_s: 8, end_s: 16 },
    { id: 'h', name: 'Half', start_s: 12, end_s: 16 },
  ] as Section[];
  expect([7.9, 8, 13, 20].map((at) => sectionAt(sections, at)?.id ?? null)).toEqual(['v', 'c', 'h', null]);
  expect(sectionOf(sections, 8, 16)?.id).toBe('c');
  expect(sectionOf(sections, 12.5, 14)?.id).toBe('h');
  expect(sectionOf(sections, 4, 12)).toBeNull();
});

test('numbers that glide can move, and a few switches', () => {
  const setting = (more: Partial<Setting>) => ({ type: 'number', moves: 'glides', ...more }) as Setting;
  const address = { of: 'step', id: 's', name: 'drive_db' } as const;
  expect(canMove(address, setting({}))).toBe(true);
  expect(canMove(address, setting({ moves: 'latency' }))).toBe(false);
  expect(canMove(address, setting({ type: 'choice' }))).toBe(false);
  expect(canMove({ of: 'strip', id: 'a', name: 'mute' }, setting({ type: 'switch' }))).toBe(true);
  expect(isSwitch({ of: 'strip', id: 'a', name: 'solo' })).toBe(false);
});

test('the envelope of any value is found where it belongs', () => {
  const own = (n: number) => ({ x: { points: [], sections: { s: n }, ramp_beats: 1, bypass: false } });
  const session = {
    levers: [{ id: 'all', envelopes: own(1) }],
    strips: [
      {
        id: 'a', envelopes: own(2), sends: [{ id: 'send', envelopes: own(3) }],
        path: { levers: [{ id: 'own', envelopes: own(4) }], steps: [
          { id: 'split', envelopes: own(5), key: { envelopes: own(6) }, lanes: [
            { id: 'lane', envelopes: own(7), path: { steps: [{ id: 'in', envelopes: own(8) }] } },
          ] },
        ] },
      },
    ],
  } as unknown as Session; // prettier-ignore
  const found = (of: Parameters<typeof keyOf>[0]['of'], id: string) =>
    envelopeOf(session, { of, id, name: 'x' })?.sections['s'];
  expect([
    found('lever', 'all'), found('strip', 'a'), found('send', 'send'), found('lever', 'own'), found('step', 'split'),
    found('key', 'split'), found('lane', 'lane'), found('step', 'in'), found('step', 'gone'),
  ]).toEqual([1, 2, 3, 4, 5, 6, 7, 8, undefined]); // prettier-ignore
});
