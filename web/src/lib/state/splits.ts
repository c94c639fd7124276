/** What is done with splits and lanes: put steps into them, take them apart, treat the others alike. */
import type { Lane, Step } from '../api/client';
import { movesOf, setAll } from './moves';
import { chosenSteps } from './steps';
import { type Workspace } from './workspace.svelte';
import { newId } from '../api/client';

export type SplitMode = 'copies' | 'bands' | 'mid/side' | 'left/right';
/** Dividers to begin with (common practice, no source). */
export const BAND_STARTS: Record<number, number[]> = {
  2: [80],
  3: [200, 2000],
  4: [120, 500, 5000],
};

/** One gesture: the chosen steps go into a split; with none chosen, an empty split stands at the place. */
export async function divide(
  workspace: Workspace,
  by: SplitMode,
  bands = 4,
  steps = chosenSteps(workspace),
): Promise<void> {
  const strip = workspace.selection.strip;
  if (!strip) return;
  const { place } = workspace.selection;
  const split_id = newId();
  await workspace.edit({
    op: 'divide',
    strip_id: strip.id,
    lane_id: place.lane_id,
    step_ids: steps.map((step) => step.id),
    index: place.index,
    by,
    dividers_hz: BAND_STARTS[bands],
    split_id,
  });
  workspace.selection.choose(strip.id, split_id);
  if (by === 'copies' && workspace.selection.step?.id === split_id)
    workspace.note('The blend is fully dry: move it to bring in the wet lane.');
}

export async function removeSplit(workspace: Workspace): Promise<void> {
  const split = splitAt(workspace);
  if (!split) {
    workspace.note('Choose a split, a lane of it, or a step in one, to take the split apart.');
    return;
  }
  const first = split.lanes?.flatMap((lane) => lane.path.steps)[0];
  await workspace.edit({ op: 'remove_split', step_id: split.id, keep: workspace.selection.lane?.id ?? null });
  workspace.selection.choose(workspace.selection.stripId, first?.id);
}

/** The chosen split, or the one around what is chosen. */
export function splitAt(workspace: Workspace): Step | null {
  return workspace.selection.step?.lanes
    ? workspace.selection.step
    : (workspace.selection.context?.split ?? null);
}

export function setLane(
  workspace: Workspace,
  lane: Lane,
  what: Partial<Omit<Lane, 'id' | 'path' | 'output' | 'slots' | 'envelopes'>>,
  gesture: string | null = null,
): void {
  workspace.move('lane', lane.id, what, gesture);
}

/** Link all lanes of a split, or none. */
export function linkAll(workspace: Workspace, split: Step): void {
  const lanes = split.lanes ?? [];
  const linked = !lanes.every((lane) => lane.linked);
  void workspace.edit(setAll(lanes.flatMap((lane) => movesOf('lane', lane.id, { linked }))));
}

/** A limiter at the end of a lane: a ceiling of its own. */
export async function addCeiling(workspace: Workspace, lane: Lane, ceiling_db: number): Promise<void> {
  await workspace.edit({
    op: 'add_step',
    strip_id: workspace.selection.stripId,
    lane_id: lane.id,
    step: { kind: 'limiter', settings: { ceiling_db, peaks: 'sample peak' } },
  });
}

/** Lanes as they can be called where their names do not say enough. */
export function spanOf(split: Step, index: number): string {
  if (split.settings['by'] !== 'bands') return '';
  const dividers = split.settings['dividers_hz'] as number[];
  const hz = (value: number) =>
    value >= 1000 ? `${Number((value / 1000).toPrecision(3))}k` : String(Math.round(value));
  if (index === 0) return `< ${hz(dividers[0]!)}`;
  if (index === dividers.length) return `> ${hz(dividers.at(-1)!)}`;
  return `${hz(dividers[index - 1]!)}-${hz(dividers[index]!)}`;
}

/** What a split is called on its plate and in the editor. */
export function splitName(split: Step): string {
  const by = String(split.settings['by']);
  if (by === 'bands') return `${split.lanes?.length ?? 0} bands`;
  if (by === 'copies') return split.settings['blend'] && split.lanes?.length === 2 ? 'In parallel' : 'Copies';
  return by === 'mid/side' ? 'Mid/side' : 'Left/right';
}
