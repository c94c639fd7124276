import { expect, test, vi } from 'vitest';
import type { Session } from '../api/client';
import { Selection } from './selection.svelte';

const step = (id: string, lanes: object[] | null = null) => ({ id, kind: lanes ? 'split' : 'gate', settings: {}, bypass: false, key: null, lanes }); // prettier-ignore
const strip = (id: string, ...steps: object[]) => ({ id, name: id, path: { steps } });
function made(...strips: object[]) {
  let session = { strips } as unknown as Session;
  const changed = vi.fn();
  const selection = new Selection(() => session, changed);
  return {
    selection,
    changed,
    now: (...next: object[]) => (session = { strips: next } as unknown as Session),
  };
}
const lane = step('split', [
  { id: 'low', path: { steps: [step('inner')] } },
  { id: 'high', path: { steps: [] } },
]);
const two = () => made(strip('main', step('m')), strip('a', step('a1'), step('a2'), lane), strip('b'));

test('choosing a strip takes its last step, or the strip itself where there is none', () => {
  const { selection, changed } = two();
  selection.choose('a');
  expect([selection.stripId, selection.step?.id]).toEqual(['a', 'split']);
  selection.choose('b');
  expect(selection.step).toBeNull();
  expect(selection.scope).toEqual({ strip_id: 'b', step_id: null, lane_id: null });
  expect(changed.mock.calls).toEqual([[true], [true]]);
  selection.choose('gone');
  expect(selection.stripId).toBe('b');
});

test('something new goes behind the chosen step, into the chosen lane, or to the end', () => {
  const { selection } = two();
  selection.choose('a', 'a1');
  expect(selection.place).toEqual({ lane_id: null, index: 1 });
  selection.choose('a', 'inner');
  expect(selection.place).toEqual({ lane_id: 'low', index: 1 });
  selection.choose('a', null, 'high');
  expect(selection.place).toEqual({ lane_id: 'high', index: 0 });
  expect(selection.scope.lane_id).toBe('high');
  selection.choose('a', null);
  expect(selection.place).toEqual({ lane_id: null, index: 3 });
});

test('steps are chosen together by Ctrl and Shift, of one path only', () => {
  const { selection } = two();
  selection.choose('a', 'a1');
  selection.chooseSteps('split', true);
  expect(selection.stepIds).toEqual(['a1', 'a2', 'split']);
  selection.chooseSteps('a2', false);
  expect(selection.stepIds).toEqual(['a1', 'split']);
  selection.chooseSteps('inner', false);
  expect(selection.step?.id).toBe('inner');
  selection.choose('a', 'a2');
  expect(selection.stepIds).toEqual([]);
});

test('strips are chosen together in the order shown', () => {
  const { selection } = two();
  selection.choose('main');
  selection.chooseStrips('b', true, ['main', 'a', 'b']);
  expect(selection.stripIds).toEqual(['main', 'a', 'b']);
  selection.chooseStrips('a', false, ['main', 'a', 'b']);
  expect([selection.stripIds, selection.stripId]).toEqual([['main', 'b'], 'b']);
  selection.chooseStrips('main', false, ['main', 'a', 'b']);
  expect(selection.stripIds).toEqual([]);
});

test('what is gone gives way to what is nearest', () => {
  const { selection, now } = two();
  selection.choose('a', 'inner');
  now(strip('main', step('m')), strip('a', step('a1')));
  selection.settle();
  expect([selection.stripId, selection.stepId]).toEqual(['a', 'a1']);
  now(strip('main', step('m')));
  selection.settle();
  expect(selection.stripId).toBe('main');
});

test('a session opens where it was left, or at the strip that is offered', () => {
  const { selection } = two();
  const main = strip('main', step('m')) as never;
  selection.open(main, { strip: 'a', step: null, lane: 'high' });
  expect([selection.stripId, selection.lane?.id]).toEqual(['a', 'high']);
  selection.open(main, { strip: 'gone', step: 'gone too' });
  expect([selection.stripId, selection.stepId]).toEqual(['main', 'm']);
});
