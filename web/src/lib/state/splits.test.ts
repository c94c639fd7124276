import { expect, test } from 'vitest';
import { addCeiling, divide, linkAll, removeSplit, spanOf, splitAt, splitName } from './splits';
import { lane, noting, session, split, step, strip } from './testing';

const made = () => {
  const bands = split('s', [lane('low', [step('in')]), lane('mid', [], { linked: true }), lane('high')], {
    by: 'bands',
    dividers_hz: [200, 2500],
  });
  const own = noting(session([strip('main'), strip('a', [step('x'), bands])]));
  own.workspace.selection.choose('a', 'x');
  return { ...own, bands };
};

test('what is chosen goes into the lanes of a split, or an empty one stands at the place', async () => {
  const { workspace, edits } = made();
  await divide(workspace, 'bands', 3);
  expect(edits[0]).toMatchObject({ op: 'divide', step_ids: ['x'], by: 'bands', dividers_hz: [200, 2000] });
  workspace.selection.choose('a', null, 'high');
  await divide(workspace, 'copies');
  expect(edits[1]).toMatchObject({ step_ids: [], lane_id: 'high', index: 0 });
});

test('the split of a lane, of a step in it, and itself', async () => {
  const { workspace, edits, notes, bands } = made();
  expect(splitAt(workspace)).toBeNull();
  await removeSplit(workspace);
  expect(edits).toEqual([]);
  expect(notes).toHaveLength(1);
  for (const [stepId, laneId] of [
    ['s', null],
    [null, 'mid'],
    ['in', null],
  ] as const) {
    workspace.selection.choose('a', stepId, laneId);
    expect(splitAt(workspace)).toBe(bands);
  }
  workspace.selection.choose('a', null, 'mid');
  await removeSplit(workspace);
  expect(edits[0]).toEqual({ op: 'remove_split', step_id: 's', keep: 'mid' });
});

test('all lanes are linked, or none where all are', () => {
  const { workspace, edits, bands } = made();
  linkAll(workspace, bands);
  expect((edits[0] as { values: { value: boolean }[] }).values.map(({ value }) => value)).toEqual([
    true,
    true,
    true,
  ]);
  for (const one of bands.lanes!) one.linked = true;
  linkAll(workspace, bands);
  expect((edits[1] as { values: { value: boolean }[] }).values.map(({ value }) => value)).toEqual([
    false,
    false,
    false,
  ]);
});

test('a ceiling is a limiter at the end of the lane', async () => {
  const { workspace, edits, bands } = made();
  await addCeiling(workspace, bands.lanes![0]!, -6);
  expect(edits[0]).toMatchObject({
    op: 'add_step',
    lane_id: 'low',
    step: { kind: 'limiter', settings: { ceiling_db: -6 } },
  });
  expect('index' in edits[0]!).toBe(false);
});

test('bands and splits are called by what they are', () => {
  const { bands } = made();
  expect([0, 1, 2].map((at) => spanOf(bands, at))).toEqual(['< 200', '200-2.5k', '> 2.5k']);
  expect(splitName(bands)).toBe('3 bands');
  const two = [lane('a'), lane('b')];
  expect(splitName(split('p', two, { by: 'copies', blend: true }))).toBe('In parallel');
  expect(splitName(split('p', two, { by: 'copies', blend: false }))).toBe('Copies');
  expect(splitName(split('p', two, { by: 'mid/side' }))).toBe('Mid/side');
  expect(spanOf(split('p', two, { by: 'mid/side' }), 0)).toBe('');
});
