<script lang="ts">
  /** The beginning of a lane: its name, level, mute and solo, and how loud it is in the sum. */
  import type { Lane, Step } from '../api/client';
  import { format } from '../controls/value';
  import { setLane, spanOf } from '../state/splits';
  import { workspace } from '../state/workspace.svelte';

  interface Props {
    lane: Lane;
    split: Step;
    keys: (event: KeyboardEvent) => void;
  }
  let { lane, split, keys }: Props = $props();

  const chosen = $derived(workspace.selection.stepId === null && workspace.selection.laneId === lane.id);
  const live = $derived(workspace.listening.playing ? workspace.listening.header?.lanes[lane.id] : undefined);
  const bus = $derived(workspace.session?.strips.find((strip) => strip.id === lane.output));
  const span = $derived(spanOf(split, (split.lanes ?? []).indexOf(lane)));
  const state = $derived.by(() => {
    if (lane.mute) return 'muted';
    if (bus) return `to ${bus.name}`;
    const level = format(lane.level_db, 'dB', -90);
    const level_text = lane.bypass ? 'bypassed' : span && lane.level_db === 0 ? span : level;
    return lane.invert ? `inverted ${level_text}` : level_text;
  });
  const alone = $derived(split.lanes?.some((other) => other.solo) && !lane.solo);
</script>

<div class="tag" class:chosen class:pale={lane.mute || alone} data-lane={lane.id}>
  <button
    class="name"
    tabindex={chosen ? 0 : -1}
    title="{lane.name}{span ? `, ${span} Hz` : ''}{alone ? ': another lane is soloed' : ''}"
    onclick={() => workspace.selection.choose(workspace.selection.stripId, null, lane.id)}
    onkeydown={keys}
  >
    <b>{lane.name}{lane.linked ? ' =' : ''}</b>
    <span class="figure soft">{state}</span>
  </button>
  <span class="acts">
    <button
      class="act"
      tabindex={chosen ? 0 : -1}
      class:on={lane.mute}
      aria-pressed={lane.mute}
      aria-label="Mute {lane.name}"
      onclick={() => setLane(workspace, lane, { mute: !lane.mute })}>M</button
    >
    <button
      class="act"
      tabindex={chosen ? 0 : -1}
      class:on={lane.solo}
      aria-pressed={lane.solo}
      aria-label="Solo {lane.name}"
      onclick={() => setLane(workspace, lane, { solo: !lane.solo })}>S</button
    >
  </span>
  {#if live !== undefined}<i style:width="{Math.max(0, Math.min(1, (live + 60) / 60)) * 100}%"></i>{/if}
</div>

<style>
  .tag {
    position: relative;
    height: 100%;
    display: flex;
    align-items: center;
    background: var(--ground);
    border-left: 3px solid var(--ink-soft);
  }
  .chosen {
    outline: 2px solid var(--ink);
    outline-offset: -2px;
    border-left-color: var(--ink);
  }
  .pale .name {
    opacity: 0.6;
  }
  .name {
    flex: 1;
    min-width: 0;
    height: 100%;
    display: flex;
    flex-direction: column;
    justify-content: center;
    align-items: flex-start;
    padding: 0 2px 0 6px;
    border: 0;
    text-align: left;
    line-height: 0.9375rem;
    overflow: hidden;
    white-space: nowrap;
  }
  .name span {
    font-size: 0.65625rem;
    letter-spacing: -0.03em;
    white-space: pre;
  }
  .acts {
    display: flex;
    flex-direction: column;
    gap: 1px;
    padding-right: 2px;
  }
  i {
    position: absolute;
    left: 0;
    bottom: 0;
    height: 2px;
    background: var(--after);
  }
</style>
