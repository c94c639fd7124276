import { expect, test } from 'vitest';
import {
  busOf,
  chosenStrips,
  moveLevels,
  muteChosen,
  removeStrips,
  setOutputs,
  switchStrips,
  withChosen,
} from './strips';
import { lane, noting, session, split, strip } from './testing';

const made = () =>
  noting(
    session([
      strip('main'),
      strip('kick', [], { level_db: -3 }),
      strip('snare', [], { level_db: -12 }),
      strip('bus 1', [split('s', [lane('l')])]),
    ]),
  );
const values = (edit: unknown) =>
  (edit as { values: { id: string; name: string; value: unknown }[] }).values.map((one) => [
    one.id,
    one.name,
    one.value,
  ]);

test('an act is about the strips chosen together, in their order, or about the one', () => {
  const { workspace } = made();
  workspace.selection.choose('snare');
  expect(chosenStrips(workspace).map(({ id }) => id)).toEqual(['snare']);
  workspace.selection.chooseStrips('kick', false, []);
  expect(chosenStrips(workspace).map(({ id }) => id)).toEqual(['kick', 'snare']);
  const [main, kick] = workspace.session!.strips as [never, never];
  expect(withChosen(workspace, kick)).toHaveLength(2);
  expect(withChosen(workspace, main)).toEqual([main]);
});

test('levels keep their distances and stop where the first comes to its limit', () => {
  const { workspace, edits } = made();
  const two = workspace.session!.strips.slice(1, 3);
  moveLevels(workspace, two, 40);
  expect(values(edits[0])).toEqual([
    ['kick', 'level_db', 12],
    ['snare', 'level_db', 3],
  ]);
  moveLevels(workspace, two, -300);
  expect(values(edits[1])).toEqual([
    ['kick', 'level_db', -81],
    ['snare', 'level_db', -90],
  ]);
  moveLevels(workspace, two, 0.01);
  expect(edits).toHaveLength(2);
});

test('a switch is on for all, or off where it is on for each; the main is never soloed', () => {
  const { workspace, edits, notes, undo } = made();
  const { strips } = workspace.session!;
  strips[1]!.mute = true;
  switchStrips(workspace, strips.slice(1, 3), 'mute', true);
  expect(values(edits[0]).map((one) => one[2])).toEqual([true, true]);
  expect(notes).toEqual(['kick, snare muted.']);
  strips[2]!.mute = true;
  switchStrips(workspace, strips.slice(1, 3), 'mute');
  expect(values(edits[1]).map((one) => one[2])).toEqual([false, false]);
  switchStrips(workspace, strips.slice(0, 1), 'solo');
  expect(edits).toHaveLength(2);
  expect(notes.at(-1)).toBe('The main cannot be soloed.');
  expect(undo).not.toHaveBeenCalled();
});

test('with a lane chosen it is the lane that is muted', () => {
  const { workspace, edits } = made();
  workspace.selection.choose('bus 1', null, 'l');
  muteChosen(workspace);
  expect(edits).toEqual([{ op: 'move', of: 'lane', id: 'l', values: { mute: true } }]);
});

test('a bus is made of what is chosen, stands before the first and feeds what they fed', async () => {
  const { workspace, edits, notes } = made();
  const { strips } = workspace.session!;
  const id = await busOf(workspace, strips.slice(1, 3));
  expect(edits).toEqual([
    {
      op: 'batch',
      edits: [
        { op: 'add_strip', index: 1, strip: { id, name: 'Bus 2', kind: 'bus', output: 'main' } },
        { op: 'set_output', strip_id: 'kick', output: id },
        { op: 'set_output', strip_id: 'snare', output: id },
      ],
    },
  ]);
  expect(await busOf(workspace, strips.slice(0, 1))).toBeNull();
  expect(notes).toEqual(['Choose the tracks that the bus is for.']);
});

test('no strip feeds itself, and the main stays', async () => {
  const { workspace, edits, notes } = made();
  const { strips } = workspace.session!;
  await setOutputs(workspace, strips, 'bus 1');
  expect(edits[0]).toEqual({
    op: 'batch',
    edits: ['kick', 'snare'].map((strip_id) => ({ op: 'set_output', strip_id, output: 'bus 1' })),
  });
  await removeStrips(workspace, strips);
  expect((edits[1] as { edits: { strip_id: string }[] }).edits.map(({ strip_id }) => strip_id)).toEqual([
    'kick',
    'snare',
    'bus 1',
  ]);
  expect(notes.at(-1)).toBe('kick, snare, bus 1 removed.');
});
