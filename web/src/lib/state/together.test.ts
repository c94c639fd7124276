import { expect, test } from 'vitest';
import type { Edit } from '../api/client';
import { Selection } from './selection.svelte';
import { lane, session, split, step, strip } from './testing';
import { alsoChosen, linkOf, together } from './together';

const of = session([
  strip('a', [step('x'), split('s', [lane('l', [step('in')])])]),
  strip('b', [step('y')]),
  strip('c'),
  strip('main'),
]);

function chosen(...ids: string[]): Selection {
  const selection = new Selection(
    () => of,
    () => undefined,
  );
  selection.choose(ids[0]!);
  selection.stripIds = ids.length > 1 ? ids : [];
  return selection;
}

const set = (of: string, id: string): Edit =>
  ({ op: 'set', values: [{ of, id, name: 'n', value: 1 }] }) as Edit;
const add = (strip_id: string): Edit => ({ op: 'add_step', strip_id, step: step('new') }) as unknown as Edit;

test('with one strip chosen, or beside those chosen, an edit is what it is', () => {
  expect(together(chosen('a'), set('step', 'x'))).toEqual(set('step', 'x'));
  const beside = chosen('a');
  beside.stripIds = ['b', 'c'];
  expect(alsoChosen(beside)).toEqual([]);
});

test('values of steps and lanes go to the other strips too, those of a strip do not', () => {
  const selection = chosen('a', 'b', 'c');
  expect(together(selection, set('step', 'in'))).toEqual({ ...set('step', 'in'), strips: ['b', 'c'] });
  expect(together(selection, set('lane', 'l'))).toEqual({ ...set('lane', 'l'), strips: ['b', 'c'] });
  expect(together(selection, set('strip', 'a'))).toEqual(set('strip', 'a'));
  expect(together(selection, set('step', 'y'))).toEqual(set('step', 'y')); // not of the strip that is shown
});

test('steps come, go and move on all, as one edit; what is about something else stays alone', () => {
  const selection = chosen('a', 'b');
  const lever = { op: 'add_lever', strip_id: 'a', lever: { id: 'v' } } as Edit;
  const remove: Edit = { op: 'remove_step', step_id: 'x' };
  const away = { op: 'move_step', step_id: 'x', strip_id: 'c', index: 0 } as Edit;
  const nested: Edit = { op: 'batch', edits: [{ op: 'batch', edits: [add('a')] }, lever] };
  expect(together(selection, nested)).toEqual({
    op: 'on_strips',
    strip_ids: ['b'],
    edits: [add('a'), lever],
  });
  expect(together(selection, remove)).toEqual({ op: 'on_strips', strip_ids: ['b'], edits: [remove] });
  for (const alone of [lever, away, add('c'), { op: 'remove_strip', strip_id: 'a' } as Edit])
    expect(together(selection, alone)).toBe(alone);
});

test('the link of a step is found', () => {
  const links = [{ step_ids: ['x', 'y'] }];
  expect(linkOf(links, step('y'))).toBe(links[0]);
  expect(linkOf(links, step('in'))).toBe(null);
  expect(linkOf(undefined, step('x'))).toBe(null);
});
