<script lang="ts">
  /** The path as plates on a rail, left to right; splits fan out into lanes and join. Each plate shows its change live. */
  import type { Step } from '../api/client';
  import { format } from '../controls/value';
  import { insertSteps, moveSteps, moveStepTo, removeSteps } from '../state/steps';
  import { workspace } from '../state/workspace.svelte';
  import AddStep from './AddStep.svelte';
  import Join from './Join.svelte';
  import LaneTag from './LaneTag.svelte';
  import RailBar from './RailBar.svelte';
  import StepFace from './StepFace.svelte';
  import { coming } from '../state/coming.svelte';
  import { storedOf } from '../state/slots.svelte';
  import { layout, nearestSlot } from './layout';
  import { arrow, everyStep, find, renamed, type Chosen } from './tree';

  interface Props {
    adding: boolean;
    /** How many bands "in bands" makes. */
    bands: number;
    height: number;
  }
  let { adding = $bindable(false), bands = $bindable(4), height = $bindable(84) }: Props = $props();
  let dragged = $state<string | null>(null);
  let over = $state<{ x: number; y: number; laneId: string | null; index: number } | null>(null);
  let zoom = $state(1);
  let canvas = $state<HTMLElement | null>(null);

  const LEFT = 108;
  const MIN_HEIGHT = 84;
  const MAX_HEIGHT = 252;
  const strip = $derived(workspace.selection.strip);
  const steps = $derived(strip?.path.steps ?? []);
  const every = $derived([...everyStep(steps)]);
  const placed = $derived(layout(steps, LEFT, MIN_HEIGHT));
  const railY = $derived(placed.steps.find((item) => item.lane === null)?.box.y ?? 24);
  const header = $derived(workspace.listening.playing ? workspace.listening.header : null);

  $effect(() => {
    height = Math.min(MAX_HEIGHT, Math.max(MIN_HEIGHT, placed.height * zoom));
  });

  /** Where a step is on its way to. */
  const awaited = $derived.by(() => {
    const place = coming.step?.place;
    return place && placed.slots.find((slot) => slot.laneId === place.lane_id && slot.index === place.index);
  });

  function focus({ stepId, laneId }: Chosen): void {
    const name = laneId ? `[data-lane="${laneId}"]` : `[data-step="${stepId ?? 'strip'}"]`;
    const button = canvas?.querySelector<HTMLElement>(`${name} button`);
    button?.focus();
    button?.scrollIntoView({ block: 'nearest', inline: 'nearest' });
  }

  /** The chosen step, once it is there: it comes into view when it is chosen, and stays where it is scrolled to then. */
  const seen = $derived(
    every.some((step) => step.id === workspace.selection.stepId) ? workspace.selection.stepId : null,
  );
  $effect(() => {
    if (seen)
      canvas?.querySelector(`[data-step="${seen}"]`)?.scrollIntoView({ block: 'nearest', inline: 'nearest' });
  });

  function keys(event: KeyboardEvent, from: Chosen): void {
    const ways = { ArrowRight: 'right', ArrowLeft: 'left', ArrowUp: 'up', ArrowDown: 'down' } as const;
    const way = ways[event.key as keyof typeof ways];
    const turn = { ArrowRight: 1, ArrowLeft: -1 }[event.key];
    if (turn && event.altKey && from.stepId) moveSteps(workspace, turn);
    else if (turn && event.shiftKey && from.stepId) {
      const result = find(steps, from);
      const next = result?.siblings[result.index + turn];
      if (next) workspace.selection.chooseSteps(next.id, true);
    } else if (way) {
      const next = arrow(steps, from, way);
      if (!next) return;
      workspace.selection.chooseOnPath(next);
      focus(next);
    } else if (event.key === 'Delete' || event.key === 'Backspace') {
      if (from.stepId) void removeSteps(workspace);
      else if (from.laneId) void workspace.edit({ op: 'remove_lane', lane_id: from.laneId });
      else return;
    } else return;
    event.preventDefault();
    event.stopPropagation();
  }

  function press(event: MouseEvent, step: Step): void {
    if (event.shiftKey || event.ctrlKey || event.metaKey)
      workspace.selection.chooseSteps(step.id, event.shiftKey);
    else workspace.selection.choose(workspace.selection.stripId, step.id);
  }

  function hover(event: DragEvent): void {
    if (!dragged || !canvas) return;
    event.preventDefault();
    const box = canvas.getBoundingClientRect();
    over = nearestSlot(placed.slots, (event.clientX - box.left) / zoom, (event.clientY - box.top) / zoom);
  }
  function drop(event: DragEvent): void {
    hover(event);
    const step = every.find((candidate) => candidate.id === dragged);
    if (over && step) {
      const { laneId, index } = over;
      if (event.altKey) void insertSteps(workspace, renamed([step]), { lane_id: laneId, index });
      else moveStepTo(workspace, step.id, laneId, index);
    }
    dragged = over = null;
  }
  function addInto(laneId: string | null): void {
    workspace.selection.choose(
      workspace.selection.stripId,
      laneId ? null : (steps.at(-1)?.id ?? null),
      laneId,
    );
    adding = true;
  }
  /** Steps of which something moves over time: a setting, the key's trim, a lane. */
  const moving = $derived(
    new Set((workspace.version?.moving ?? []).filter((one) => one.times_s.length).map((one) => one.id)),
  );
</script>

<div class="path" role="group" aria-label="Path of {strip?.name ?? ''}">
  <RailBar bind:bands bind:zoom forked={every.length > steps.length || placed.joins.length > 0} />
  <div class="scroll" role="presentation" ondragover={hover} ondragleave={() => (over = null)} ondrop={drop}>
    <div
      class="canvas"
      role="list"
      aria-label="Steps of {strip?.name ?? ''}"
      bind:this={canvas}
      style:width="{placed.width}px"
      style:height="{placed.height}px"
      style:zoom
    >
      <svg aria-hidden="true">
        {#each placed.rails as rail, index (index)}<path d={rail} />{/each}
        {#each placed.joins as join (join.split.id)}
          <circle cx={join.circle.x} cy={join.circle.y} r="4.5" />
        {/each}
        {#if awaited}<rect
            class="awaited"
            x={awaited.x - 8}
            y={awaited.y - 18}
            width="16"
            height="36"
            data-awaited={coming.step?.name}
          />{/if}
        {#if over}<path class="marker" d="M{over.x} {over.y - 22}v44" />{/if}
      </svg>
      <div
        class="plate at strip"
        role="listitem"
        class:chosen={workspace.selection.context === null}
        data-step="strip"
        style:left="8px"
        style:top="{railY}px"
      >
        <button
          class="face"
          tabindex={workspace.selection.context === null ? 0 : -1}
          onclick={() => workspace.selection.choose(workspace.selection.stripId, null)}
          onkeydown={(event) => keys(event, { stepId: null, laneId: null })}
        >
          <b>{strip?.name ?? ''}</b>
          {#if storedOf(strip?.path).on}<em class="slot figure" title="Slot {storedOf(strip?.path).on} is on"
              >{storedOf(strip?.path).on}</em
            >{/if}
          <span class="figure soft">trim {format(strip?.trim_db ?? 0, 'dB')}</span>
        </button>
      </div>
      {#each placed.steps as { step, box } (step.id)}
        <div
          class="plate at"
          class:chosen={step.id === workspace.selection.stepId}
          class:bypassed={step.bypass}
          class:together={workspace.selection.stepIds.includes(step.id)}
          class:split={step.kind === 'split'}
          data-step={step.id}
          role="listitem"
          draggable="true"
          style:left="{box.x}px"
          style:top="{box.y}px"
          style:width="{box.width}px"
          ondragstart={() => (dragged = step.id)}
          ondragend={() => (dragged = over = null)}
        >
          <StepFace
            {step}
            {header}
            moving={moving.has(step.id)}
            press={(event) => press(event, step)}
            keydown={(event) => keys(event, { stepId: step.id, laneId: null })}
          />
        </div>
      {/each}
      {#each placed.tags as { lane, split: owner, box } (lane.id)}
        <div
          class="at"
          role="listitem"
          style:left="{box.x}px"
          style:top="{box.y}px"
          style:width="{box.width}px"
          style:height="{box.height}px"
        >
          <LaneTag {lane} split={owner} keys={(event) => keys(event, { stepId: null, laneId: lane.id })} />
        </div>
      {/each}
      {#each placed.joins as { split: owner, box } (owner.id)}
        <div
          class="at"
          role="listitem"
          data-join={owner.id}
          style:left="{box.x}px"
          style:top="{box.y}px"
          style:width="{box.width}px"
          style:height="{box.height}px"
        >
          <Join {owner} />
        </div>
      {/each}
      {#each placed.slots.filter((slot) => slot.last) as slot (slot.laneId)}
        <div class="at" role="listitem" style:left="{slot.x - 12}px" style:top="{slot.y - 12}px">
          <button
            class="plus"
            tabindex="-1"
            class:small={slot.laneId}
            aria-label={slot.laneId ? 'Add a step to this lane' : 'Add a step'}
            title="Add a step (A)"
            onclick={() => addInto(slot.laneId)}>+</button
          >
        </div>
      {/each}
      {#if !steps.length}
        <span class="soft hint at" style:left="{LEFT + 44}px" style:top="34px"
          >Add a step to shape this strip: press A.</span
        >
      {/if}
    </div>
  </div>
  {#if adding}<AddStep {bands} close={() => (adding = false)} />{/if}
</div>

<style>
  .path {
    position: relative;
    height: 100%;
  }
  .scroll {
    height: 100%;
    overflow: auto;
  }
  .canvas {
    position: relative;
    min-width: 100%;
  }
  svg {
    position: absolute;
    inset: 0;
    width: 100%;
    height: 100%;
    fill: none;
    stroke: var(--ink-soft);
    stroke-width: 1.5;
  }
  circle {
    fill: var(--ground);
    stroke: var(--ink);
  }
  .awaited {
    stroke: var(--ink);
    stroke-dasharray: 3 2;
    fill: var(--plate);
  }
  .marker {
    stroke: var(--after);
    stroke-width: 3;
  }
  .at {
    position: absolute;
  }
  .slot {
    position: absolute;
    right: 3px;
    bottom: 1px;
    padding: 0 3px;
    font-size: 0.6875rem;
    line-height: 0.875rem;
    font-style: normal;
    background: var(--ink);
    color: var(--plate);
  }
  .plate {
    height: 2.25rem;
  }
  .strip {
    width: 100px;
  }
  .face {
    display: flex;
    flex-direction: column;
    align-items: flex-start;
    justify-content: center;
    width: 100%;
    border: 0;
    padding: 0 8px;
    text-align: left;
    line-height: 0.9375rem;
    white-space: nowrap;
  }
  .face span {
    font-size: 0.6875rem;
    letter-spacing: -0.02em;
  }
  b {
    font-weight: 650;
    max-width: 100%;
    overflow: hidden;
    text-overflow: ellipsis;
  }
  .chosen {
    --rim: var(--ink);
    padding: 2px;
  }
  .together {
    --rim: var(--after);
    padding: 2px;
  }
  .plus {
    width: 24px;
    height: 1.5rem;
    padding: 0;
    font-size: 0.9375rem;
    line-height: 1.25rem;
    background: var(--plate);
    border: 1px solid var(--edge);
  }
  .hint {
    background: var(--ground);
    padding: 0 8px;
    white-space: nowrap;
  }
</style>
