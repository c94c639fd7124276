<script lang="ts">
  /** Ready-made paths and splits, and paths of one's own: chosen steps, a split, a lane's or the strip's whole path. */
  import type { Edit, Lever, Step } from '../api/client';
  import { chosenSteps, pathInsertion, takeSteps } from '../state/steps';
  import { workspace } from '../state/workspace.svelte';
  import PresetMenu from './PresetMenu.svelte';
  import { everyStep, renamed, renamedLevers } from './tree';

  const hasSlots = (step: Step) => Boolean(step.slots ?? step.lanes?.some((lane) => lane.slots));

  let { close }: { close: () => void } = $props();

  /** What would be kept. */
  const kept = $derived.by((): { steps: Step[]; what: string; levers?: Lever[] } => {
    const chosen = chosenSteps(workspace);
    if (chosen.length) return { steps: chosen, what: chosen[0]!.lanes ? 'this split' : 'the chosen steps' };
    if (workspace.selection.lane)
      return {
        steps: workspace.selection.lane.path.steps,
        what: `the path of ${workspace.selection.lane.name}`,
      };
    return {
      steps: workspace.selection.strip?.path.steps ?? [],
      levers: workspace.selection.strip?.path.levers ?? [],
      what: `the path of ${workspace.selection.strip?.name ?? ''}`,
    };
  });
  function keep(): { steps: Step[]; levers: Lever[] } {
    const names: Record<string, string> = {};
    const steps = renamed(kept.steps, names);
    return { steps, levers: renamedLevers(kept.levers ?? [], names) };
  }
  const edit = (path: { steps: Step[]; levers?: Lever[] }) => pathInsertion(workspace, path);
  async function put(made: Edit): Promise<void> {
    await takeSteps(workspace, made);
    close();
  }
</script>

<PresetMenu
  title="Ready-made"
  hint="Put behind what is chosen. A click or the arrow keys: hear one after the other, matched. Enter, a double-click or Use keeps it, Escape goes back."
  starts={workspace.described.pathStarts.map((start) => ({ ...start, edit: () => edit(start.path) }))}
  own="Your own paths"
  none="None yet."
  kind="path"
  placeholder="Keep {kept.what} as"
  field="Name of the path"
  file="Path file"
  edit={(preset) => edit(preset.settings as { steps: Step[]; levers?: Lever[] })}
  take={put}
  slotted={[...everyStep(kept.steps)].some(hasSlots)}
  kept={() => (kept.steps.length ? keep() : null)}
  {close}
/>
