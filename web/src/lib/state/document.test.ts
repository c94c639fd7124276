import { expect, test } from 'vitest';
import type { Edit, Step, Strip, Version, VersionAnswer } from '../api/client';
import { merged, previewed } from './document';

const step = (id: string, settings: Record<string, unknown> = {}, more: Partial<Step> = {}) =>
  ({ id, kind: 'compressor', bypass: false, settings, ...more }) as Step;
const strip = (id: string, steps: Step[] = [], more: Partial<Strip> = {}) =>
  ({ id, name: id, level_db: 0, path: { steps }, sends: [], ...more }) as unknown as Strip;
const version = (strips: Strip[], more: Partial<Version> = {}) =>
  ({
    id: 1,
    revision: 4,
    session: { name: 'S', tempo_bpm: 120, strips },
    routing: { latency_ms: 1 },
    plates: { c: 'old', d: 'other' },
    resolved: { c: { output_db: 1 } },
    sums: {},
    ...more,
  }) as unknown as Version;
const answer = (since: number | null, strips: Strip[], ids: string[], more: object = {}) =>
  ({
    ...version(strips, { revision: 5, plates: { c: 'new' }, resolved: {} }),
    routing: null,
    since,
    strip_ids: ids,
    ...more,
  }) as unknown as VersionAnswer;
const set = (of: string, id: string | null, name: string, value: unknown) =>
  ({ op: 'set', values: [{ of, id, name, value }] }) as Edit;

test('an answer that tells of the changed strips only is joined to what is known', () => {
  const kept = strip('b', [step('d')]);
  const known = version([strip('a', [step('c')]), kept, strip('gone')]);
  const next = merged(
    known,
    answer(4, [strip('a', [step('c', { ratio: 4 })]), strip('n')], ['n', 'a', 'b']),
  )!;
  expect(next.session.strips.map(({ id }) => id)).toEqual(['n', 'a', 'b']);
  expect(next.session.strips[2]).toBe(kept);
  expect(next.session.strips[1]!.path.steps[0]!.settings).toEqual({ ratio: 4 });
  expect(next.plates).toEqual({ c: 'new', d: 'other' });
  expect(next.resolved).toEqual({});
  expect(next.routing).toEqual({ latency_ms: 1 });
});

test('one that goes on from another version is not joined', () => {
  expect(merged(version([], { revision: 3 }), answer(4, [], []))).toBeNull();
  expect(merged(null, answer(4, [], []))).toBeNull();
  expect(merged(null, answer(null, [], [], { routing: {} }))?.revision).toBe(5);
});

test('values on their way are shown at once, wherever they are, and nothing else is touched', () => {
  const split = step('s', { dividers_hz: [200, 2000] }, {
    lanes: [{ id: 'l', name: 'L', level_db: 0, path: { steps: [step('in', { ratio: 2 })] } }],
  } as unknown as Partial<Step>);
  const keyed = step('k', {}, { key: { trim_db: 0 } } as unknown as Partial<Step>);
  const other = strip('b');
  const first = version([strip('a', [split, keyed], { sends: [{ id: 'x', level_db: 0 }] as never }), other]);
  const shown = previewed(first, [
    set('strip', 'a', 'level_db', -6),
    set('send', 'x', 'level_db', -3),
    set('step', 'in', 'ratio', 8),
    set('step', 's', 'dividers_hz.1', 3000),
    set('step', 'k', 'bypass', true),
    set('key', 'k', 'trim_db', 6),
    set('lane', 'l', 'level_db', 1),
    set('session', null, 'tempo_bpm', 90),
    { op: 'remove_strip', strip_id: 'b' },
  ]);
  const [a, b] = shown.session.strips;
  const [s, k] = a!.path.steps;
  expect(a).toMatchObject({ level_db: -6, sends: [{ level_db: -3 }] });
  expect(s!.settings['dividers_hz']).toEqual([200, 3000]);
  expect(s!.lanes![0]).toMatchObject({ level_db: 1, path: { steps: [{ settings: { ratio: 8 } }] } });
  expect(k).toMatchObject({ bypass: true, key: { trim_db: 6 } });
  expect(shown.session.tempo_bpm).toBe(90);
  expect(b).toBe(other);
  expect(first.session.strips[0]!.level_db).toBe(0);
  expect(previewed(first, [])).toBe(first);
});
