<script lang="ts">
  /** The path as plates on a rail, left to right; splits fan out into lanes and join. Each plate shows its change live. */
  import type { Setting, Step } from '../api/client';
  import Rule from './Rule.svelte';
  import { format } from '../controls/value';
  import { BAND_STARTS, removeSplit, divide, splitAt, splitName } from '../state/splits';
  import {
    bypassSteps,
    chosenSteps,
    copySteps,
    insertSteps,
    moveSteps,
    moveStepTo,
    removeSteps,
  } from '../state/steps';
  import { automation } from '../state/automation.svelte';
  import { dryWetLever, newLever } from '../state/levers';
  import { workspace } from '../state/workspace.svelte';
  import AddStep from './AddStep.svelte';
  import GateState from './GateState.svelte';
  import SlotBar from './SlotBar.svelte';
  import LaneTag from './LaneTag.svelte';
  import { storedOf } from '../state/slots.svelte';
  import { layout, nearestSlot } from './layout';
  import { plateText } from './plate';
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
  const LEAST = 84;
  /** Of a sum that cancels. */
  const SILENT_DB = -120;
  const MOST = 252;
  const strip = $derived(workspace.selection.strip);
  const steps = $derived(strip?.path.steps ?? []);
  const every = $derived([...everyStep(steps)]);
  const split = $derived(splitAt(workspace));
  const placed = $derived(layout(steps, LEFT, LEAST));
  const railY = $derived(placed.steps.find((item) => item.lane === null)?.box.y ?? 24);
  const header = $derived(workspace.listening.playing ? workspace.listening.header : null);
  const allBypassed = $derived(steps.length > 0 && steps.every((step) => step.bypass));
  const position = $derived(
    workspace.processor('split')?.settings.find((setting) => setting.name === 'position') as Setting,
  );

  $effect(() => {
    height = Math.min(MOST, Math.max(LEAST, placed.height * zoom));
  });

  const moved = (step: Step) => (header && !step.bypass ? (header.steps[step.id] ?? 0) : 0);
  const label = (step: Step) =>
    step.kind === 'split' ? splitName(step) : (workspace.processor(step.kind)?.label ?? step.kind);
  const blended = (step: Step) =>
    step.settings['by'] === 'copies' && step.settings['blend'] === true && step.lanes?.length === 2;

  function sum(step: Step): string {
    if (step.settings['by'] !== 'copies') return 'flat if idle';
    const db = workspace.version?.sums[step.id];
    return db === undefined ? '' : db > SILENT_DB ? format(db, 'dB') : 'cancels';
  }
  function match(step: Step): string {
    if (step.settings['law'] !== 'steady') return `Law: ${String(step.settings['law'])}`;
    if (!step.match) return 'Steady: the match is being measured';
    return step.match.refused ?? `Steady: treated matched by ${format(step.match.matched_db, 'dB')}`;
  }

  function focus({ stepId, laneId }: Chosen): void {
    const name = laneId ? `[data-lane="${laneId}"]` : `[data-step="${stepId ?? 'strip'}"]`;
    const button = canvas?.querySelector<HTMLElement>(`${name} button`);
    button?.focus();
    button?.scrollIntoView({ block: 'nearest', inline: 'nearest' });
  }

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
  const says = (step: Step) =>
    plateText(step, workspace.processor(step.kind), workspace.version?.plates[step.id] ?? '', header);
</script>

<div class="path" role="group" aria-label="Path of {strip?.name ?? ''}">
  <div class="bar">
    <SlotBar />
    <button
      class="button lever"
      data-act="add lever"
      aria-haspopup="dialog"
      title="One control that moves several settings"
      onclick={async () => (automation.lever = await newLever(workspace, 'Lever'))}>Lever</button
    >
    <div class="tools" role="toolbar" aria-label="Splits">
      {#if workspace.selection.stepIds.length > 1}
        <span class="soft">{workspace.selection.stepIds.length} chosen</span>
        <button class="button" onclick={() => bypassSteps(workspace, chosenSteps(workspace))}
          >Bypass them</button
        >
        <button class="button" onclick={() => copySteps(workspace)}>Copy</button>
        <button
          class="button"
          data-act="dry/wet"
          title="A lever over the mix of all of them: at 0 % dry"
          onclick={() => dryWetLever(workspace, chosenSteps(workspace))}>Dry/wet lever</button
        >
      {/if}
      <button
        class="button"
        title="Put what is chosen beside an untreated lane (P)"
        onclick={() => divide(workspace, 'copies')}>In parallel</button
      >
      <span class="pair">
        <button
          class="button"
          title="Put what is chosen into each band (F)"
          onclick={() => divide(workspace, 'bands', bands)}>In bands</button
        ><select class="figure" aria-label="How many bands" bind:value={bands}>
          {#each Object.keys(BAND_STARTS) as count (count)}<option value={Number(count)}>{count}</option
            >{/each}
        </select>
      </span>
      <button
        class="button"
        title="Put what is chosen on the middle and on the sides (W)"
        onclick={() => divide(workspace, 'mid/side')}>In mid/side</button
      >
      <button
        class="button"
        title="Put what is chosen on the left and on the right"
        onclick={() => divide(workspace, 'left/right')}>In left/right</button
      >
      {#if split}
        <button
          class="button"
          title="One lane's steps take the split's place (U)"
          onclick={() => removeSplit(workspace)}>Remove split</button
        >
      {/if}
      {#if steps.length > 1}
        <button
          class="button"
          aria-pressed={allBypassed}
          title="Shift+B"
          onclick={() => bypassSteps(workspace, steps)}>{allBypassed ? 'Enable all' : 'Bypass all'}</button
        >
      {/if}
      {#if every.length > steps.length || placed.joins.length}
        <button
          class="button small"
          aria-label="Draw the path smaller"
          disabled={zoom <= 0.55}
          onclick={() => (zoom -= 0.15)}>-</button
        >
        <button
          class="button small"
          aria-label="Draw the path larger"
          disabled={zoom >= 1}
          onclick={() => (zoom = Math.min(1, zoom + 0.15))}>+</button
        >
      {/if}
    </div>
  </div>
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
          <button
            class="face"
            title="Drag or press Alt with the arrows to move, B to bypass, Del to remove; Shift or Ctrl and click to choose several"
            aria-pressed={workspace.selection.stepIds.includes(step.id)}
            onclick={(event) => press(event, step)}
            onkeydown={(event) => keys(event, { stepId: step.id, laneId: null })}
          >
            <b class:long={label(step).length > 14}>{label(step)}</b>
            {#if storedOf(step).on}<em class="slot figure" title="Slot {storedOf(step).on} is on"
                >{storedOf(step).on}</em
              >{/if}
            {#if moving.has(step.id)}<em class="key over" title="Something of it moves over time"
                ><svg viewBox="0 0 12 8" aria-hidden="true"><path d="M0 7 H3 L7 1 H12" /></svg></em
              >{/if}
            {#if step.key}<em class="key" title="Its detector listens to a key">&#9666;</em>{/if}
            <span class="figure soft" class:tight={says(step).length > 15}>{says(step)}</span>
            {#if Math.abs(moved(step)) > 0.05}
              <i
                class={moved(step) < 0 ? 'taken' : 'added'}
                style:width="{Math.round(Math.min(Math.abs(moved(step)) / 24, 1) * 60)}px"
              ></i>
            {/if}
            {#if header?.gate_states[step.id]}
              <GateState state={header.gate_states[step.id]!} />
            {/if}
          </button>
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
          class="at join"
          role="listitem"
          data-join={owner.id}
          style:left="{box.x}px"
          style:top="{box.y}px"
          style:width="{box.width}px"
          style:height="{box.height}px"
          title={blended(owner) ? match(owner) : ''}
        >
          {#if blended(owner) && position}
            <Rule
              address={{ of: 'step', id: owner.id, name: 'position' }}
              setting={position}
              mark="blend"
              of={label(owner)}
              value={owner.settings['position']!}
            />
          {:else}
            <span>Sum</span><span class="figure soft">{sum(owner)}</span>
          {/if}
        </div>
      {/each}
      {#each placed.slots.filter((slot) => slot.last) as slot (slot.laneId)}
        <div class="at" role="listitem" style:left="{slot.x - 12}px" style:top="{slot.y - 12}px">
          <button
            class="plus"
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
  .marker {
    stroke: var(--after);
    stroke-width: 3;
  }
  .at {
    position: absolute;
  }
  .key {
    position: absolute;
    right: 14px;
    top: 3px;
    font-style: normal;
    color: var(--key);
  }
  .over:has(+ .key) {
    right: 28px;
  }
  .over {
    right: 12px;
    top: 4px;
    line-height: 0.75rem;
    color: var(--after);
  }
  .over svg {
    position: static;
    display: block;
    width: 12px;
    height: 8px;
    fill: none;
    stroke: currentColor;
    stroke-width: 1.5;
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
  .face .tight {
    letter-spacing: -0.08em;
  }
  b {
    font-weight: 650;
    max-width: 100%;
    overflow: hidden;
    text-overflow: ellipsis;
  }
  .long {
    font-stretch: 74%;
  }
  .chosen {
    --rim: var(--ink);
    padding: 2px;
  }
  .together {
    --rim: var(--after);
    padding: 2px;
  }
  .bypassed b {
    color: var(--ink-soft);
    text-decoration: line-through;
  }
  .join {
    display: grid;
    align-content: center;
    background: var(--ground);
    padding: 0 6px;
    line-height: 1rem;
    white-space: nowrap;
  }
  .join > .figure {
    font-size: 0.6875rem;
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
  .lever {
    flex: none;
    align-self: center;
    height: 1.25rem;
    margin: 0 auto 0 -4px;
    padding: 0 6px;
    font-size: 0.75rem;
    line-height: 1.125rem;
  }
  .bar {
    position: absolute;
    left: 8px;
    right: 6px;
    top: 1px;
    z-index: 2;
    display: flex;
    justify-content: space-between;
    gap: 8px;
    overflow-x: auto;
    scrollbar-width: none;
    background: var(--ground);
  }
  .tools {
    display: flex;
    gap: 4px;
    white-space: nowrap;
  }
  .tools button {
    height: 1.25rem;
    line-height: 1.125rem;
    font-size: 0.75rem;
    padding: 0 6px;
  }
  .tools .small {
    width: 20px;
    padding: 0;
  }
  .pair {
    display: flex;
  }
  select {
    height: 1.25rem;
    border: 1px solid var(--line);
    border-left: 0;
    background: var(--plate);
    padding: 0;
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
