/** What is compared and measured, by name. */
import { splitName } from './splits';
import type { Workspace } from './workspace.svelte';

/** The chosen step, lane or strip. */
export function nameOfScope(workspace: Workspace): string {
  const { step, lane, strip } = workspace.selection;
  if (step) return step.lanes ? splitName(step) : (workspace.described.processor(step.kind)?.label ?? '');
  return lane?.name ?? strip?.name ?? '';
}

/** Listen to the key of the step's detector, or go back to after. */
export function listenToKey(workspace: Workspace): void {
  const { listening } = workspace;
  if (!workspace.hasDetector) workspace.note('This step has no detector, so it has no key to listen to.');
  else listening.listenTo(listening.to === 'key' ? 'after' : 'key');
}

/** Solo the lane that is chosen or that the step stands in, for listening only, or hear all of them again. */
export function soloLane(workspace: Workspace): void {
  const { listening } = workspace;
  if (!workspace.selection.context?.lane) workspace.note('Choose a lane, or a step in one, to solo it.');
  else listening.listenTo(listening.to === 'solo lane' ? 'after' : 'solo lane');
}
