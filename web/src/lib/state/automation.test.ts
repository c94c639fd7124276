import { beforeEach, expect, test, vi } from 'vitest';
import type { Edit, MovingValue, Session } from '../api/client';
import { automation } from './automation.svelte';
import { range, session, step, strip, version } from './testing';
import { workspace } from './workspace.svelte';

const edits: [Edit, string | null][] = [];
const ratio = { of: 'step', id: 'c', name: 'ratio' } as const;
const moves = (more: Partial<MovingValue>): MovingValue =>
  ({ ...ratio, label: 'Ratio', owner: 'A', base: 2, still: 2, on: true, face: null, levers: [], times_s: [], values: [], ...more }) as MovingValue; // prettier-ignore
function open(moving: MovingValue[], more: Partial<Session> = {}): void {
  const sections = [
    { id: 'v', name: 'Verse', start_s: 0, end_s: 10 },
    { id: 'ch', name: 'Chorus', start_s: 10, end_s: 20 },
  ];
  const of = session([strip('main'), strip('a', [step('c', { settings: { ratio: 2 } })])], {
    sections,
    ...more,
  } as never);
  workspace.version = version(of, { moving } as never);
}

beforeEach(() => {
  edits.length = 0;
  vi.spyOn(workspace, 'edit').mockImplementation(
    (edit, part = null) => (edits.push([edit, part]), Promise.resolve()),
  );
  workspace.described.processors = [
    { kind: 'compressor', settings: [range('ratio', 1, 50), { ...range('knee', 0, 1), moves: 'structure' }] },
  ] as never;
  workspace.listening.passage = { start_s: 10, end_s: 20, name: 'Chorus' };
  automation.lanes = [];
});

test('what moves nothing by itself is set as it is', () => {
  open([]);
  automation.change(ratio, 4, 'g');
  expect(edits).toEqual([[{ op: 'set', values: [{ ...ratio, value: 4 }] }, 'g']]);
  expect([
    automation.mover(ratio),
    automation.canMove(ratio),
    automation.canMove({ ...ratio, name: 'knee' }),
  ]).toEqual([null, true, false]);
});

test('of values by section a hand moves that of the section it stands in', () => {
  open([moves({ face: 'sections', times_s: [0, 10], values: [2, 3] })]);
  automation.change(ratio, 4, 'g');
  expect(edits[0]![0]).toEqual({ op: 'change_envelope', ...ratio, sections: { ch: 4 } });
  expect(automation.mover(ratio)).toBe('Chorus');
});

test('a course is shifted as a whole, from where the drag began', () => {
  open([moves({ face: 'points', times_s: [0, 20], values: [2, 4] })]);
  automation.change(ratio, 4, 'g'); // it is 3 where the passage begins
  automation.change(ratio, 5, 'g');
  expect(edits.map(([edit]) => (edit as { by: number }).by)).toEqual([1, 2]);
  expect(automation.mover(ratio)).toBe('envelope');
});

test('under levers the document gets the value for which they make the wanted one', () => {
  open([moves({ base: 2, still: 3, levers: [{ name: 'Bite', low: 2, high: 4 }] as never })]);
  automation.change(ratio, 5, null);
  expect(edits[0]![0]).toEqual({ op: 'set', values: [{ ...ratio, value: 4 }] });
  expect(automation.mover(ratio)).toBe('Bite');
});

test('an envelope that is off moves nothing', () => {
  open([moves({ face: 'points', on: false })]);
  automation.change(ratio, 5, null);
  expect(edits[0]![0].op).toBe('set');
  expect(automation.mover(ratio)).toBe('envelope off');
});

test('a new lane gets its first point, where the passage begins, at what holds there', async () => {
  open([]);
  await automation.draw(ratio);
  expect(automation.isOpen(ratio)).toBe(true);
  const [edit] = edits[0]! as unknown as [{ put_points: { at_s: number; value: number; shape: string }[] }];
  expect(edit.put_points[0]).toMatchObject({ at_s: 10, value: 2, shape: 'linear' });
  automation.close(ratio);
  expect(automation.isOpen(ratio)).toBe(false);
});

test('what is armed opens its lane, and disarmed keeps it', () => {
  open([]);
  automation.toggleArmed(ratio);
  expect([automation.armed, automation.isOpen(ratio), automation.mover(ratio)]).toEqual([
    ['step c ratio'],
    true,
    'armed',
  ]);
  automation.toggleArmed(ratio);
  expect([automation.armed, automation.isOpen(ratio)]).toEqual([[], true]);
});

test('a place that was guessed too far, and a gap, do not end a move; a loop begun anew does', () => {
  open([]);
  const { listening } = workspace;
  vi.stubGlobal('document', { querySelector: () => null });
  const heard = (at_s: number) => vi.spyOn(listening, 'heardPosition').mockReturnValue(at_s);
  vi.spyOn(workspace, 'hear').mockReturnValue(undefined as never);
  automation.toggleArmed(ratio);
  listening.playing = listening.sounding = true;
  [11, 11.1, 11.04].forEach((at_s) => (heard(at_s), automation.change(ratio, at_s, null)));
  expect(edits).toEqual([]); // the hand is still on it
  listening.sounding = false;
  heard(11.2);
  automation['sample']();
  expect(edits).toEqual([]);
  heard(10);
  automation['sample']();
  const [edit] = edits[0]! as unknown as [{ op: string; samples: [number, number][] }];
  expect([edit.op, edit.samples]).toEqual([
    'record_envelope',
    [
      [11, 11],
      [11.1, 11.04],
      [11.2, 11.04],
    ],
  ]);
  automation.toggleArmed(ratio);
  listening.playing = false;
  vi.restoreAllMocks();
  vi.unstubAllGlobals();
});
