<script lang="ts">
  /** The face of a step's plate: its name, its slot, its key, what it says, and its change while it plays. */
  import type { Step } from '../api/client';
  import type { BlockHeader } from '../audio/protocol';
  import { splitName } from '../state/splits';
  import { storedOf } from '../state/slots.svelte';
  import { linkOf } from '../state/together';
  import { workspace } from '../state/workspace.svelte';
  import GateState from './GateState.svelte';
  import { plateText } from './plate';

  interface Props {
    step: Step;
    header: BlockHeader | null;
    /** Whether something of it moves over time. */
    moving: boolean;
    press: (event: MouseEvent) => void;
    keydown: (event: KeyboardEvent) => void;
  }
  let { step, header, moving, press, keydown }: Props = $props();

  const processor = $derived(workspace.described.processor(step.kind));
  const label = $derived(step.kind === 'split' ? splitName(step) : (processor?.label ?? step.kind));
  const says = $derived(plateText(step, processor, workspace.version?.plates[step.id] ?? '', header));
  const moved = $derived(header && !step.bypass ? (header.steps[step.id] ?? 0) : 0);
  const slot = $derived(storedOf(step).on);
  const link = $derived(linkOf(workspace.session?.links, step));
</script>

<button
  class="face"
  title="Drag or press Alt with the arrows to move, B to bypass, Del to remove; Shift or Ctrl and click to choose several"
  tabindex={workspace.selection.stepId === step.id ? 0 : -1}
  aria-pressed={workspace.selection.stepIds.includes(step.id)}
  onclick={press}
  onkeydown={keydown}
>
  <b class:long={label.length > 14} class:struck={step.bypass}>{label}</b>
  {#if slot}<em class="slot figure" title="Slot {slot} is on">{slot}</em>{/if}
  {#if moving}<em class="key over" title="Something of it moves over time"
      ><svg viewBox="0 0 12 8" aria-hidden="true"><path d="M0 7 H3 L7 1 H12" /></svg></em
    >{/if}
  {#if link}<em
      class="linked"
      title="Linked with {link.step_ids.length - 1} other{link.step_ids.length > 2 ? 's' : ''}">=</em
    >{/if}
  {#if step.key}<em class="key" title="Its detector listens to a key">&#9666;</em>{/if}
  <span class="figure soft" class:tight={says.length > 15}>{says}</span>
  {#if Math.abs(moved) > 0.05}
    <i
      class={moved < 0 ? 'taken' : 'added'}
      style:width="{Math.round(Math.min(Math.abs(moved) / 24, 1) * 60)}px"
    ></i>
  {/if}
  {#if header?.gate_states[step.id]}
    <GateState state={header.gate_states[step.id]!} />
  {/if}
</button>

<style>
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
  .linked {
    position: absolute;
    right: 26px;
    top: 2px;
    font-style: normal;
    font-weight: 650;
    color: var(--ink-soft);
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
  .struck {
    color: var(--ink-soft);
    text-decoration: line-through;
  }
</style>
