import { beforeEach, expect, test, vi } from 'vitest';
import { api } from '../api/client';
import {
  addStep, bypassSteps, chosenSteps, copySteps, duplicateSteps, moveSteps, pasteSteps, pathInsertion, removeStep, removeSteps,
  swapOrder,
} from './steps'; // prettier-ignore
import { emptyStorage, lane, noting, session, split, step, strip } from './testing';

beforeEach(() => {
  emptyStorage();
});

const made = () => {
  const own = noting(
    session([
      strip('main'),
      strip('a', [step('x'), step('y'), split('s', [lane('l', [step('in')]), lane('m')]), step('z')]),
    ]),
  );
  own.workspace.selection.choose('a', 'x');
  return own;
};

test('a new step stands behind the chosen one, at the end of a chosen lane, or of the path', async () => {
  const { workspace, edits } = made();
  await addStep(workspace, 'gate');
  expect(edits[0]).toMatchObject({
    op: 'add_step',
    strip_id: 'a',
    lane_id: null,
    index: 1,
    step: { kind: 'gate' },
  });
  workspace.selection.choose('a', null, 'l');
  await addStep(workspace, 'gate');
  expect(edits[1]).toMatchObject({ lane_id: 'l', index: 1 });
  workspace.selection.choose('a', null);
  await addStep(workspace, 'gate');
  expect(edits[2]).toMatchObject({ lane_id: null, index: 4 });
});

test('steps chosen together are removed, bypassed and copied as one edit', async () => {
  const { workspace, edits } = made();
  workspace.selection.chooseSteps('y', false);
  expect(chosenSteps(workspace).map(({ id }) => id)).toEqual(['x', 'y']);
  bypassSteps(workspace, chosenSteps(workspace));
  expect(edits[0]).toMatchObject({
    op: 'set',
    values: [
      { id: 'x', value: true },
      { id: 'y', value: true },
    ],
  });
  copySteps(workspace);
  await pasteSteps(workspace);
  const pasted = (edits[1] as { edits: { index: number; step: { id: string } }[] }).edits;
  expect(pasted.map(({ index }) => index)).toEqual([2, 3]);
  expect(pasted.some((one) => ['x', 'y'].includes(one.step.id))).toBe(false);
  workspace.selection.choose('a', 'x');
  workspace.selection.chooseSteps('y', false);
  await removeSteps(workspace);
  expect(edits[2]).toEqual({
    op: 'batch',
    edits: ['x', 'y'].map((step_id) => ({ op: 'remove_step', step_id })),
  });
});

test('nothing copied is said, and nothing is done', async () => {
  const { workspace, edits, notes } = made();
  await pasteSteps(workspace);
  expect(edits).toEqual([]);
  expect(notes[0]).toContain('Nothing was copied yet');
});

test('a duplicate of a split has names of its own throughout', async () => {
  const { workspace, edits } = made();
  workspace.selection.choose('a', 's');
  await duplicateSteps(workspace);
  const copy = (
    edits[0] as { step: { id: string; lanes: { id: string; path: { steps: { id: string }[] } }[] } }
  ).step;
  const names = [copy.id, ...copy.lanes.map(({ id }) => id), copy.lanes[0]!.path.steps[0]!.id];
  expect(new Set(names).size).toBe(4);
  expect(names.some((name) => ['s', 'l', 'm', 'in'].includes(name))).toBe(false);
});

test('a path brings its levers along, and they find the copies', () => {
  const { workspace } = made();
  const levers = [{ id: 'v', name: 'V', targets: [{ of: 'step', id: 'p', name: 'ratio', to: 4 }] }] as never;
  const edit = pathInsertion(workspace, { steps: [step('p')], levers }) as unknown as {
    edits: [{ step: { id: string } }, { lever: { targets: { id: string }[] } }];
  };
  expect(edit.edits[1].lever.targets[0]!.id).toBe(edit.edits[0].step.id);
});

test('what stood beside a removed step is chosen; in a lane that is empty then, the lane', async () => {
  const { workspace } = made();
  await removeStep(workspace, 'x');
  expect(workspace.selection.stepId).toBe('y');
  workspace.selection.choose('a', 'in');
  await removeStep(workspace, 'in');
  expect([workspace.selection.stepId, workspace.selection.laneId]).toEqual([null, 'l']);
});

test('a step is moved by one place, and not beyond the ends', () => {
  const { workspace, edits } = made();
  moveSteps(workspace, 1);
  expect(edits[0]).toMatchObject({ op: 'move_step', step_id: 'x', index: 1 });
  moveSteps(workspace, -1);
  expect(edits).toHaveLength(1);
});

test('a swap that was measured is of the steps where they are then, and is called off where they are no neighbours', async () => {
  const { workspace, edits, notes } = made();
  const steps = workspace.session!.strips[1]!.path.steps;
  const measured = (meanwhile: () => void) =>
    vi.spyOn(api, 'studyOrder').mockImplementation(() => {
      meanwhile();
      return Promise.resolve({ louder_db: 1 } as never);
    });
  measured(() => steps.unshift(step('new')));
  await swapOrder(workspace);
  expect(edits[0]).toMatchObject({ op: 'move_step', step_id: 'x', index: 2 });
  measured(() => steps.splice(2, 0, step('between')));
  await swapOrder(workspace);
  expect(edits).toHaveLength(1);
  expect(notes.at(-1)).toContain('no neighbours any more');
  vi.restoreAllMocks();
});
