/** What is done to steps: add, copy, paste, duplicate, bypass, remove, move. */
import { api, newId, type Edit, type Lever, type Step } from '../api/client';
import { everyStep, find, renamed, renamedLevers } from '../path/tree';
import { coming } from './coming.svelte';
import { batch, movesOf, setAll } from './moves';
import { alsoChosen } from './together';
import type { Workspace } from './workspace.svelte';

const BOARD = 'saltanvil.copied-steps';

/** Behind what is chosen; one asked for while another is on its way goes behind that one. */
export function addStep(workspace: Workspace, kind: string): Promise<void> {
  const name = workspace.described.processor(kind)?.label ?? kind;
  return coming.add(
    name,
    () => workspace.selection.place,
    async (place) => {
      const { strip } = workspace.selection;
      if (!strip) return;
      const id = newId();
      await workspace.edit({
        op: 'add_step',
        strip_id: strip.id,
        ...place,
        step: { id, kind, settings: {} },
      });
      workspace.selection.choose(strip.id, id);
    },
  );
}

/** What stood beside it is chosen then. */
export async function removeStep(workspace: Workspace, stepId: string): Promise<void> {
  const { selection } = workspace;
  const result = selection.strip && find(selection.strip.path.steps, { stepId, laneId: null });
  if (!result) return;
  const next = result.siblings[result.index + 1] ?? result.siblings[result.index - 1];
  await workspace.edit({ op: 'remove_step', step_id: stepId });
  if (selection.stepId === stepId || !selection.step)
    selection.choose(selection.stripId, next?.id ?? null, next ? null : (result.lane?.id ?? null));
}

/** The steps an act is about: the selected ones in their order, or the chosen one. */
export function chosenSteps(workspace: Workspace): Step[] {
  const first = workspace.selection.stepIds[0];
  const steps = first
    ? (find(workspace.selection.strip?.path.steps ?? [], { stepId: first, laneId: null })?.siblings ?? [])
    : [];
  const selected = steps.filter((step) => workspace.selection.stepIds.includes(step.id));
  return selected.length ? selected : workspace.selection.step ? [workspace.selection.step] : [];
}

/** The edit that puts steps at a place of the chosen strip. */
export function insertion(
  workspace: Workspace,
  copies: Step[],
  { lane_id, index } = workspace.selection.place,
): Edit {
  const strip_id = workspace.selection.stripId;
  return batch(copies.map((step, i) => ({ op: 'add_step', strip_id, lane_id, index: index + i, step })));
}

/** Copies of steps, under new names, at a place; the last of them is chosen. */
export async function insertSteps(
  workspace: Workspace,
  copies: Step[],
  { lane_id, index } = workspace.selection.place,
): Promise<void> {
  if (copies.length)
    await takeSteps(workspace, insertion(workspace, copies, { lane_id, index }), { lane_id, index });
}

/** A path behind what is chosen, and with it the levers that move it. */
export function pathInsertion(workspace: Workspace, path: { steps: Step[]; levers?: Lever[] }): Edit {
  const names: Record<string, string> = {};
  const steps = insertion(workspace, renamed(path.steps, names));
  const strip_id = workspace.selection.stripId;
  const levers: Edit[] = renamedLevers(path.levers ?? [], names).map((lever) => ({
    op: 'add_lever',
    strip_id,
    lever,
  }));
  return levers.length ? batch([steps, ...levers]) : steps;
}

const stepsOf = (edit: Edit): Step[] =>
  edit.op === 'batch' ? edit.edits.flatMap(stepsOf) : edit.op === 'add_step' ? [edit.step as Step] : [];

/** Make an edit that puts steps somewhere, and choose them. */
export async function takeSteps(
  workspace: Workspace,
  edit: Edit,
  { lane_id, index } = workspace.selection.place,
): Promise<void> {
  const strip = workspace.selection.strip;
  const copies = stepsOf(edit);
  if (!strip || !copies.length) return;
  await workspace.edit(edit);
  const steps = workspace.selection.strip?.path.steps ?? [];
  const row = lane_id ? find(steps, { stepId: null, laneId: lane_id })?.siblings : steps;
  const made = (row ?? []).slice(index, index + copies.length).map((step) => step.id);
  if (!made.length) return;
  workspace.selection.choose(strip.id, made.at(-1)!);
  workspace.selection.stepIds = made.length > 1 ? made : [];
}

/** Copied steps outlive the page and can be pasted on another strip, in another session or tab. */
export function copySteps(workspace: Workspace): void {
  const steps = chosenSteps(workspace);
  if (!steps.length) return;
  localStorage.setItem(BOARD, JSON.stringify(renamed(steps)));
  workspace.note(steps.length === 1 ? 'One step copied.' : `${steps.length} steps copied.`);
}

/** Behind the last of the chosen steps. */
function behind(workspace: Workspace): { lane_id: string | null; index: number } {
  const last = chosenSteps(workspace).at(-1);
  const result = last && find(workspace.selection.strip?.path.steps ?? [], { stepId: last.id, laneId: null });
  return result ? { lane_id: result.lane?.id ?? null, index: result.index + 1 } : workspace.selection.place;
}

export async function pasteSteps(workspace: Workspace): Promise<void> {
  const copied = JSON.parse(localStorage.getItem(BOARD) ?? '[]') as Step[];
  if (!copied.length) workspace.note('Nothing was copied yet: choose steps and press Ctrl+C.');
  const copies = renamed(copied);
  const strips = alsoChosen(workspace.selection);
  await insertSteps(workspace, copies, behind(workspace));
  if (copies.length && strips.length)
    workspace.note(
      `Pasted on ${strips.length + 1} strips.`,
      'note',
      { label: 'Link them', run: () => linkSteps(workspace, copies, strips) },
      'pasted',
    );
}

/** Tie each step to what stands for it on other strips. */
export function linkSteps(workspace: Workspace, steps: Step[], strips: string[]): void {
  void workspace.edit(batch(steps.map((step) => ({ op: 'link_steps', step_ids: [step.id], strips }))));
}

export async function duplicateSteps(workspace: Workspace): Promise<void> {
  await insertSteps(workspace, renamed(chosenSteps(workspace)), behind(workspace));
}

/** Bypass the given steps, or take them all back if every one is bypassed. */
export function bypassSteps(workspace: Workspace, steps: Step[]): void {
  if (!steps.length) return;
  const bypass = !steps.every((step) => step.bypass);
  void workspace.edit(setAll(steps.flatMap((step) => movesOf('step', step.id, { bypass }))));
}

export async function removeSteps(workspace: Workspace): Promise<void> {
  const going = chosenSteps(workspace);
  if (!going.length) return;
  const count = [...everyStep(going)].length;
  await removeThem(workspace, going);
  // What goes with it may not be in sight.
  const also = alsoChosen(workspace.selection).length;
  const there = also ? `, and what stands for ${count > 1 ? 'them' : 'it'} on ${also} more` : '';
  if (count > 1 || also)
    workspace.note(
      `${count === 1 ? 'One step' : `${count} steps`} removed${there}.`,
      'note',
      workspace.history.offer(),
      'removed',
    );
}

async function removeThem(workspace: Workspace, going: Step[]): Promise<void> {
  if (going.length === 1) return removeStep(workspace, going[0]!.id);
  const lane =
    find(workspace.selection.strip?.path.steps ?? [], { stepId: going[0]!.id, laneId: null })?.lane ?? null;
  await workspace.edit(batch(going.map((step) => ({ op: 'remove_step', step_id: step.id }))));
  workspace.selection.choose(workspace.selection.stripId, lane ? null : undefined, lane?.id ?? null);
}

/** Put a step somewhere else: before the step that stands at `index` there now. */
export function moveStepTo(
  workspace: Workspace,
  stepId: string,
  lane_id: string | null,
  index: number,
): void {
  const result = find(workspace.selection.strip?.path.steps ?? [], { stepId, laneId: null });
  if (!result) return;
  const same = (result.lane?.id ?? null) === lane_id;
  if (same && (index === result.index || index === result.index + 1)) return;
  void workspace.edit({
    op: 'move_step',
    step_id: stepId,
    strip_id: workspace.selection.stripId,
    lane_id,
    index: same && index > result.index ? index - 1 : index,
  });
}

/** Move the steps one place to the left (-1) or to the right (1) in their path. */
export function moveSteps(workspace: Workspace, turn: number): void {
  const going = chosenSteps(workspace);
  const result =
    going[0] && find(workspace.selection.strip?.path.steps ?? [], { stepId: going[0].id, laneId: null });
  if (!result) return;
  const { siblings, lane } = result;
  const places = going.map((step) => siblings.indexOf(step));
  if (Math.min(...places) + turn < 0 || Math.max(...places) + turn >= siblings.length) return;
  const order = turn < 0 ? going : going.toReversed();
  const edits = order.map((step) => ({
    op: 'move_step' as const,
    step_id: step.id,
    strip_id: workspace.selection.stripId,
    lane_id: lane?.id ?? null,
    index: siblings.indexOf(step) + turn,
  }));
  void workspace.edit(batch(edits));
}

/** The step that the chosen one trades places with: the one it was swapped with last, or the next, or the one before. */
export function swapPartner(workspace: Workspace): Step | null {
  const { context: result, step } = workspace.selection;
  const { order } = workspace.listening;
  if (!result || !step) return null;
  const beside = [result.siblings[result.index + 1], result.siblings[result.index - 1]];
  const pair = order ? [order.step_id, order.other_id] : [];
  const swapped = beside.find((other) => other && pair.includes(other.id) && pair.includes(step.id));
  return swapped ?? beside[0] ?? beside[1] ?? null;
}

/** Swap the chosen step with its partner, and hear both orders equally loud; once more swaps back. */
export function swapOrder(workspace: Workspace): Promise<void> {
  return workspace.storing(() => swapMeasured(workspace));
}

async function swapMeasured(workspace: Workspace): Promise<void> {
  const { context: result, step } = workspace.selection;
  const { order } = workspace.listening;
  const { version } = workspace;
  const partner = swapPartner(workspace);
  if (!result || !step || !version || !partner)
    return workspace.note('Two steps in one path can be swapped: choose one that has a neighbour.');
  const { start_s, end_s } = workspace.listening.passage;
  const strip_id = workspace.selection.stripId;
  const move = {
    op: 'move_step' as const,
    step_id: step.id,
    strip_id,
    lane_id: result.lane?.id ?? null,
    index: result.siblings.indexOf(partner),
  };
  const answer = await workspace.attempt(() =>
    api.studyOrder(version.id, {
      tab: workspace.tab,
      number: workspace.measuring.nextNumber(),
      start_s,
      end_s,
      strip_id,
      edit: move,
    }),
  );
  if (!answer) return;
  // Whoever edited meanwhile may have moved what it was measured of.
  const path = workspace.session?.strips.find((strip) => strip.id === strip_id)?.path;
  const now = path && find(path.steps, { stepId: step.id, laneId: null });
  const index = now ? now.siblings.findIndex((other) => other.id === partner.id) : -1;
  if (!now || index < 0 || Math.abs(index - now.index) !== 1)
    return workspace.note('The two steps are no neighbours any more, so their order stays.');
  const again = order && [order.step_id, order.other_id].includes(partner.id);
  const gain_db = (again ? order.gain_db : 0) - answer.louder_db;
  await workspace.reorder(
    { ...move, lane_id: now.lane?.id ?? null, index },
    { strip_id, step_id: step.id, other_id: partner.id, gain_db: Math.abs(gain_db) < 0.01 ? 0 : gain_db },
  );
}
