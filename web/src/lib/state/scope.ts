/** What is compared and measured, by name. */
import { splitName } from './splits';
import type { Workspace } from './workspace.svelte';

/** The chosen step, lane or strip. */
export function nameOfScope(workspace: Workspace): string {
  const { step, lane, strip } = workspace.selection;
  if (step) return step.lanes ? splitName(step) : (workspace.processor(step.kind)?.label ?? '');
  return lane?.name ?? strip?.name ?? '';
}
