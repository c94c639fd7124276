<script lang="ts">
  /** Ready-made paths and splits, and paths of one's own: chosen steps, a split, a lane's or the strip's whole path. */
  import type { Edit, Step } from '../api/client';
  import { chosenSteps, insertion, insertSteps } from '../state/steps';
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
  const edit = (path: { steps: Step[] }) => insertion(workspace, renamed(path.steps));
  async function put(made: Edit): Promise<void> {
    const edits = made.op === 'batch' ? made.edits : [made];
    await insertSteps(
      workspace,
      edits.flatMap((one) => (one.op === 'add_step' ? [one.step as Step] : [])),
    );
    close();
  }
</script>

<PresetMenu
  title="Ready-made"
  hint="Put behind what is chosen. Arrow keys: hear one after the other, matched. Enter keeps it, Escape goes back."
  starts={workspace.pathStarts.map((start) => ({ ...start, edit: () => edit(start.path) }))}
  own="Your own paths"
  none="None yet."
  kind="path"
  placeholder="Keep {kept.what} as"
  field="Name of the path"
  file="Path file"
  edit={(preset) => edit(preset.settings as { steps: Step[] })}
  take={put}
  slotted={[...everyStep(kept.steps)].some(hasSlots)}
  kept={() => (kept.steps.length ? { steps: renamed(kept.steps) } : null)}
  {close}
/>
