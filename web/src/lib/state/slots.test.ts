import { beforeEach, expect, test, vi } from 'vitest';
import { api, type Edit } from '../api/client';
import { slots, slotScope, storedOf } from './slots.svelte';
import { emptyStorage, lane, session, split, step, strip, version } from './testing';
import { workspace } from './workspace.svelte';

const edits: Edit[] = [];
const kept = (on: number | null, ...numbers: number[]) =>
  ({ slots: { on, kept: Object.fromEntries(numbers.map((number) => [number, {}])) } }) as never;
function open(more: object): void {
  const first = step('c', more);
  workspace.version = version(session([strip('main'), strip('a', [first, split('s', [lane('l')])])]));
  workspace.selection.choose('a', 'c');
}

beforeEach(() => {
  edits.length = 0;
  vi.restoreAllMocks();
  emptyStorage();
  vi.spyOn(workspace, 'measure').mockImplementation(() => undefined);
  vi.spyOn(workspace, 'edit').mockImplementation((edit) => (edits.push(edit), Promise.resolve()));
});

test('what has slots: the step, the lane, or the strip with its path', () => {
  open(kept(2, 3, 1, 2));
  expect(slotScope(workspace)).toEqual({ of: 'step', id: 'c', stored: { on: 2, numbers: [1, 2, 3] } });
  workspace.selection.choose('a', null, 'l');
  expect(slotScope(workspace)).toMatchObject({ of: 'lane', id: 'l' });
  workspace.selection.choose('a', null);
  expect(slotScope(workspace)).toMatchObject({ of: 'strip', id: 'a', stored: { on: null, numbers: [] } });
  expect(storedOf(null)).toEqual({ on: null, numbers: [] });
});

test('an empty slot is not switched to: what to press is said; the one that is on is left', async () => {
  open(kept(1, 1, 2));
  const said = vi.spyOn(workspace, 'note').mockImplementation(() => undefined);
  await slots.switchTo(1);
  await slots.switchTo(4);
  expect(edits).toEqual([]);
  expect(said.mock.calls[0]![0]).toBe('Slot 4 is empty; press Shift+4 to store what you hear.');
  await slots.switchTo(2);
  await slots.store(3);
  await slots.clear(2);
  expect(edits.map((edit) => [edit.op, (edit as { slot: number }).slot])).toEqual([
    ['switch_slot', 2],
    ['store_slot', 3],
    ['clear_slot', 2],
  ]);
});

test('loudness is measured of two and more, and told to whoever listens', async () => {
  open(kept(1, 1, 2));
  const asked = vi.spyOn(api, 'studySlots').mockResolvedValue({
    slots: [
      { slot: 1, gain_db: 0, loudness_lufs: -20 },
      { slot: 2, gain_db: -3, loudness_lufs: -17 },
    ],
  } as never);
  const told = vi.spyOn(workspace.listening, 'setSlots').mockImplementation(() => undefined);
  await slots.measure();
  expect(asked.mock.calls[0]![1]).toMatchObject({ of: 'step', id: 'c' });
  expect(told).toHaveBeenCalledWith({ of: 'step', id: 'c', gains_db: { 1: 0, 2: -3 } });
  expect(slots.loudness).toHaveLength(2);
  open(kept(1, 1));
  await slots.measure();
  expect(told).toHaveBeenLastCalledWith({ of: 'step', id: 'c', gains_db: {} });
  expect(slots.loudness).toEqual([]);
});

test('what differs is of the scope that was asked for, not of one chosen meanwhile', async () => {
  open(kept(1, 1, 2));
  let answer!: (compared: never) => void;
  vi.spyOn(api, 'slots').mockReturnValue(new Promise((resolve) => (answer = resolve)));
  const asked = slots.compare();
  workspace.selection.choose('a', null, 'l');
  answer({ differences: [{ of: 'step', id: 'c', name: 'ratio' }] } as never);
  await asked;
  expect(slots.compared).toBeNull();
  expect(slots.differs('c', 'ratio')).toBe(false);
});
