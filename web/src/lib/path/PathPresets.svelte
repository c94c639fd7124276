<script lang="ts">
  /** Ready-made paths and splits, and paths of one's own: chosen steps, a split, a lane's or the strip's whole path. */
  import type { Step } from '../api/client';
  import { chosenSteps, insertSteps } from '../state/steps';
  import { workspace } from '../state/workspace.svelte';
  import PresetMenu from './PresetMenu.svelte';
  import { everyStep, renamed } from './tree';

  const hasSlots = (step: Step) => Boolean(step.slots ?? step.lanes?.some((lane) => lane.slots));

  let { close }: { close: () => void } = $props();

  /** What would be kept. */
  const kept = $derived.by((): { steps: Step[]; what: string } => {
    const chosen = chosenSteps(workspace);
    if (chosen.length) return { steps: chosen, what: chosen[0]!.lanes ? 'this split' : 'the chosen steps' };
    if (workspace.selection.lane)
      return {
        steps: workspace.selection.lane.path.steps,
        what: `the path of ${workspace.selection.lane.name}`,
      };
    return {
      steps: workspace.selection.strip?.path.steps ?? [],
      what: `the path of ${workspace.selection.strip?.name ?? ''}`,
    };
  });
  const put = (path: { steps: Step[] }) => {
    close();
    void insertSteps(workspace, renamed(path.steps));
  };
</script>

<PresetMenu
  title="Ready-made"
  hint="Press one: it is put behind what is chosen. Then listen for what it says."
  starts={workspace.pathStarts.map((start) => ({ ...start, take: () => put(start.path) }))}
  own="Your own paths"
  none="None yet."
  kind="path"
  placeholder="Keep {kept.what} as"
  field="Name of the path"
  file="Path file"
  take={(preset) => put(preset.settings as { steps: Step[] })}
  slotted={[...everyStep(kept.steps)].some(hasSlots)}
  kept={() => (kept.steps.length ? { steps: renamed(kept.steps) } : null)}
  {close}
/>
