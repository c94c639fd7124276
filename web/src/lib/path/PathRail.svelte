<script lang="ts">
  /** The path as plates on a rail, left to right, each with its change as it is heard. */
  import type { Step } from '../api/client';
  import { format } from '../controls/value';
  import { workspace } from '../state/workspace.svelte';
  import { bypassSteps, chosenSteps, copySteps, insertSteps, moveSteps, removeSteps } from '../state/steps';
  import AddStep from './AddStep.svelte';
  import Door from './Door.svelte';

  let { adding = $bindable(false) }: { adding: boolean } = $props();
  let dragged = $state<string | null>(null);
  let over = $state<number | null>(null);

  const strip = $derived(workspace.strip);
  const steps = $derived(strip?.path.steps ?? []);
  const allBypassed = $derived(steps.length > 0 && steps.every((step) => step.bypass));

  /** What a plate says: the change now while it plays, else the settings that matter most. */
  function says(step: Step): string {
    if (step.bypass) return 'bypassed';
    const live = workspace.playing ? workspace.header?.steps[step.id] : undefined;
    const door = workspace.playing ? workspace.header?.doors[step.id] : undefined;
    if (door !== undefined && step.kind !== 'leveller') return door;
    if (live !== undefined) return format(live, 'dB');
    const { settings } = step;
    const db = (name: string) =>
      `${Number(settings[name]).toFixed(Number.isInteger(settings[name]) ? 0 : 1)} dB`;
    if (step.kind === 'gate') return `opens at ${db('threshold_db')}`;
    if (step.kind === 'limiter' || step.kind === 'clipper') return `ceiling ${db('ceiling_db')}`;
    if (step.kind === 'shaper')
      return `${format(Number(settings['attack_db']), '')} / ${format(Number(settings['sustain_db']), '')} dB`;
    if (step.kind === 'deesser') return `from ${format(Number(settings['frequency_hz']), 'Hz')}`;
    if (step.kind === 'leveller') return `to ${db('target_db')}`;
    if (step.kind === 'freecurve') return `${(settings['points'] as unknown[]).length} points`;
    if (step.kind === 'equaliser') {
      const busy = [1, 2, 3, 4].filter((band) => {
        const kind = settings[`band${band}_kind`];
        return (
          kind === 'high-pass' ||
          kind === 'low-pass' ||
          (kind !== 'off' && settings[`band${band}_gain_db`] !== 0)
        );
      }).length;
      return busy === 1 ? '1 band' : `${busy} bands`;
    }
    if (step.kind === 'trim') return format(Number(settings['gain_db']), 'dB');
    return `${Number(settings['ratio'])}:1 at ${Number(settings['threshold_db']).toFixed(0)} dB`;
  }
  const moved = (step: Step) =>
    workspace.playing && !step.bypass ? (workspace.header?.steps[step.id] ?? 0) : 0;
  const label = (step: Step) => workspace.processor(step.kind)?.label ?? step.kind;

  function keys(event: KeyboardEvent, index: number): void {
    const order = [null, ...steps.map((step) => step.id)];
    const id = steps[index]?.id ?? null;
    const turn = { ArrowRight: 1, ArrowLeft: -1 }[event.key];
    if (turn && event.altKey && id) moveSteps(workspace, turn);
    else if (turn && event.shiftKey && steps[index + turn]) workspace.select(steps[index + turn]!.id, true);
    else if (turn) {
      const next = order[order.indexOf(id) + turn];
      if (next === undefined) return;
      workspace.choose(workspace.stripId, next);
      document.querySelector<HTMLElement>(`[data-step="${next ?? 'strip'}"] button`)?.focus();
    } else if ((event.key === 'Delete' || event.key === 'Backspace') && id) void removeSteps(workspace);
    else return;
    event.preventDefault();
    event.stopPropagation();
  }

  function drop(index: number, copying: boolean): void {
    const from = steps.findIndex((step) => step.id === dragged);
    if (from >= 0 && dragged) {
      if (copying) void insertSteps(workspace, [steps[from]!], index);
      else workspace.moveStep(dragged, index > from ? index - 1 : index);
    }
    dragged = over = null;
  }
</script>

<div class="path" role="group" aria-label="Path of {strip?.name ?? ''}">
  <div class="rail"></div>
  <div class="plate strip" class:chosen={workspace.stepId === null} data-step="strip">
    <button
      class="face"
      onclick={() => workspace.choose(workspace.stripId, null)}
      onkeydown={(event) => keys(event, -1)}
    >
      <b>{strip?.name ?? ''}</b>
      <span class="figure soft">trim {format(strip?.trim_db ?? 0, 'dB')}</span>
    </button>
  </div>
  {#if steps.length > 1}
    <span class="several">
      {#if workspace.selected.length > 1}
        <span class="soft">{workspace.selected.length} chosen</span>
        <button class="button" onclick={() => bypassSteps(workspace, chosenSteps(workspace))}
          >Bypass them</button
        >
        <button class="button" onclick={() => copySteps(workspace)}>Copy</button>
      {/if}
      <button
        class="button"
        aria-pressed={allBypassed}
        title="Shift+B"
        onclick={() => bypassSteps(workspace, steps)}>{allBypassed ? 'All back on' : 'Bypass all'}</button
      >
    </span>
  {/if}
  {#each steps as step, index (step.id)}
    <div
      class="plate"
      class:chosen={step.id === workspace.stepId}
      class:bypassed={step.bypass}
      class:together={workspace.selected.includes(step.id)}
      class:over={over === index}
      data-step={step.id}
      role="listitem"
      draggable="true"
      ondragstart={() => (dragged = step.id)}
      ondragend={() => (dragged = over = null)}
      ondragover={(event) => {
        event.preventDefault();
        over = index;
      }}
      ondrop={(event) => {
        event.preventDefault();
        drop(index, event.altKey);
      }}
    >
      <button
        class="face"
        title="Drag or press Alt with the arrows to move, B to bypass, Del to remove; Shift or Ctrl and click to choose several"
        aria-pressed={workspace.selected.includes(step.id)}
        onclick={(event) => {
          if (event.shiftKey || event.ctrlKey || event.metaKey) workspace.select(step.id, event.shiftKey);
          else workspace.choose(workspace.stripId, step.id);
        }}
        onkeydown={(event) => keys(event, index)}
      >
        <b>{label(step)}</b>
        <span class="figure soft">{says(step)}</span>
        {#if Math.abs(moved(step)) > 0.05}
          <i
            class={moved(step) < 0 ? 'taken' : 'added'}
            style:width="{Math.min(Math.abs(moved(step)) / 24, 1) * 60}px"
          ></i>
        {/if}
        {#if workspace.playing && workspace.header?.doors[step.id]}
          <Door state={workspace.header.doors[step.id]!} />
        {/if}
      </button>
    </div>
  {/each}
  <div
    class="add"
    role="presentation"
    ondragover={(event) => event.preventDefault()}
    ondrop={(event) => {
      event.preventDefault();
      drop(steps.length, event.altKey);
    }}
  >
    <button class="plus" aria-label="Add a step" title="Add a step (A)" onclick={() => (adding = !adding)}
      >+</button
    >
    {#if !steps.length}<span class="soft hint">Add a step to shape this strip: press A.</span>{/if}
    {#if adding}<AddStep close={() => (adding = false)} />{/if}
  </div>
</div>

<style>
  .path {
    position: relative;
    height: 100%;
    display: flex;
    align-items: center;
    gap: 16px;
    padding: 0 16px;
    overflow: auto visible;
  }
  .rail {
    position: absolute;
    left: 0;
    right: 0;
    top: 50%;
    border-top: 1.5px solid var(--ink-soft);
  }
  .plate {
    position: relative;
    flex: none;
    min-width: 116px;
    height: 48px;
  }
  .strip {
    min-width: 96px;
  }
  .face {
    display: flex;
    flex-direction: column;
    align-items: flex-start;
    justify-content: center;
    width: 100%;
    border: 0;
    padding: 0 10px;
    text-align: left;
  }
  b {
    font-weight: 650;
  }
  .chosen {
    background: var(--ink);
    padding: 2px;
  }
  .together {
    background: var(--after);
    padding: 2px;
  }
  .over {
    background: var(--after);
  }
  .bypassed b {
    color: var(--ink-soft);
    text-decoration: line-through;
  }
  .taken {
    position: absolute;
    right: 1px;
    bottom: 1px;
    height: 6px;
    border: 1px solid var(--taken);
    background: repeating-linear-gradient(135deg, var(--plate) 0 2px, var(--taken) 2px 3px);
  }
  .added {
    position: absolute;
    right: 1px;
    bottom: 1px;
    height: 6px;
    border: 1px solid var(--after);
    background: radial-gradient(var(--after) 0.9px, transparent 1px) 0 0 / 4px 4px;
  }
  .several {
    position: absolute;
    right: 8px;
    top: 2px;
    display: flex;
    gap: 4px;
    z-index: 2;
  }
  .several button {
    height: 20px;
    line-height: 18px;
    font-size: 12px;
  }
  .add {
    position: relative;
    display: flex;
    align-items: center;
    gap: 8px;
    z-index: 3;
  }
  .plus {
    width: 28px;
    height: 28px;
    padding: 0;
    font-size: 18px;
    line-height: 24px;
    background: var(--plate);
    border: 1px solid var(--line);
  }
  .hint {
    background: var(--ground);
    padding: 0 8px;
    white-space: nowrap;
  }
</style>
