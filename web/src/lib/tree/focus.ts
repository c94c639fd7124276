/** Where the keyboard goes on after something was done with strips: to the strip that it was done with. */
import { tick } from 'svelte';
import { busOf, chosenStrips } from '../state/strips';
import { workspace } from '../state/workspace.svelte';

export async function focusStrip(id: string): Promise<void> {
  await tick();
  document.querySelector<HTMLElement>(`[data-strip="${id}"]`)?.focus();
}

/** A bus from the chosen strips, which is chosen then. */
export async function groupToBus(): Promise<void> {
  const id = await busOf(workspace, chosenStrips(workspace));
  if (id !== null) await focusStrip(id);
}
