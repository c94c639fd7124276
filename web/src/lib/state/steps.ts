/** What is done to several steps at once: copy, paste, duplicate, bypass, remove, move. */
import type { Edit, Step } from '../api/client';
import { newId, type Workspace } from './workspace.svelte';

const BOARD = 'saltanvil.copied-steps';

/** The steps an act is about: the selected ones in their order, or the chosen one. */
export function chosenSteps(workspace: Workspace): Step[] {
  const steps = workspace.strip?.path.steps ?? [];
  const selected = steps.filter((step) => workspace.selected.includes(step.id));
  return selected.length ? selected : workspace.step ? [workspace.step] : [];
}

const batch = (edits: Edit[]): Edit => (edits.length === 1 ? edits[0]! : { op: 'batch', edits });

export async function insertSteps(
  workspace: Workspace,
  copies: Pick<Step, 'kind' | 'bypass' | 'settings'>[],
  at: number,
): Promise<void> {
  const strip = workspace.strip;
  if (!strip || !copies.length) return;
  const ids = copies.map(() => newId());
  const edits = copies.map(({ kind, bypass, settings }, i) => ({
    op: 'add_step',
    strip_id: strip.id,
    index: at + i,
    step: { id: ids[i], kind, bypass, settings },
  }));
  await workspace.edit(batch(edits));
  if (!workspace.strip?.path.steps.some((step) => step.id === ids.at(-1))) return;
  workspace.choose(strip.id, ids.at(-1)!);
  workspace.selected = ids.length > 1 ? ids : [];
}

const after = (workspace: Workspace, last: Step | undefined) =>
  (workspace.strip?.path.steps.findIndex((step) => step.id === last?.id) ?? -1) + 1;

/** Copied steps outlive the page and can be pasted on another strip, in another session or tab. */
export function copySteps(workspace: Workspace): void {
  const steps = chosenSteps(workspace);
  if (!steps.length) return;
  localStorage.setItem(
    BOARD,
    JSON.stringify(steps.map(({ kind, bypass, settings }) => ({ kind, bypass, settings }))),
  );
  workspace.note(steps.length === 1 ? 'One step copied.' : `${steps.length} steps copied.`);
}

export async function pasteSteps(workspace: Workspace): Promise<void> {
  const copied = JSON.parse(localStorage.getItem(BOARD) ?? '[]') as Step[];
  if (!copied.length) workspace.note('Nothing was copied yet: choose steps and press Ctrl+C.');
  const steps = workspace.strip?.path.steps ?? [];
  await insertSteps(
    workspace,
    copied,
    workspace.step ? after(workspace, chosenSteps(workspace).at(-1)) : steps.length,
  );
}

export async function duplicateSteps(workspace: Workspace): Promise<void> {
  const steps = chosenSteps(workspace);
  await insertSteps(workspace, steps, after(workspace, steps.at(-1)));
}

/** Bypass the given steps, or take them all back if every one is bypassed. */
export function bypassSteps(workspace: Workspace, steps: Step[]): void {
  if (!steps.length) return;
  const bypass = !steps.every((step) => step.bypass);
  void workspace.edit(batch(steps.map((step) => ({ op: 'set_step', step_id: step.id, bypass }))));
}

export async function removeSteps(workspace: Workspace): Promise<void> {
  const going = chosenSteps(workspace);
  if (going.length === 1) return workspace.removeStep(going[0]!.id);
  await workspace.edit(batch(going.map((step) => ({ op: 'remove_step', step_id: step.id }))));
  workspace.selected = [];
  workspace.choose(workspace.stripId);
}

/** Move the steps one place to the left (-1) or to the right (1). */
export function moveSteps(workspace: Workspace, turn: number): void {
  const steps = workspace.strip?.path.steps ?? [];
  const going = chosenSteps(workspace);
  const places = going.map((step) => steps.indexOf(step));
  if (!places.length || Math.min(...places) + turn < 0 || Math.max(...places) + turn >= steps.length) return;
  const order = turn < 0 ? going : going.toReversed();
  const edits = order.map((step) => ({
    op: 'move_step',
    step_id: step.id,
    strip_id: workspace.stripId,
    index: steps.indexOf(step) + turn,
  }));
  void workspace.edit(batch(edits));
}
