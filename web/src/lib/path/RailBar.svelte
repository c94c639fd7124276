<script lang="ts">
  /** What can be done with the path: its slots, levers, and the splits that what is chosen can be put into. */
  import { toolbar } from '../controls/toolbar';
  import { automation } from '../state/automation.svelte';
  import { dryWetLever, newLever } from '../state/levers';
  import { BAND_STARTS, divide, removeSplit, splitAt } from '../state/splits';
  import { bypassSteps, chosenSteps, copySteps } from '../state/steps';
  import { bypassPaths, chosenStrips } from '../state/strips';
  import { alsoChosen } from '../state/together';
  import { workspace } from '../state/workspace.svelte';
  import SlotBar from './SlotBar.svelte';

  interface Props {
    /** How many bands "in bands" makes. */
    bands: number;
    zoom: number;
    /** Whether the path has splits, so that it may be drawn smaller. */
    forked: boolean;
  }
  let { bands = $bindable(), zoom = $bindable(), forked }: Props = $props();
  const split = $derived(splitAt(workspace));
  const all = $derived(chosenStrips(workspace).flatMap((strip) => strip.path.steps));
  const allBypassed = $derived(all.length > 0 && all.every((step) => step.bypass));
  const also = $derived(alsoChosen(workspace.selection));
</script>

<div class="bar" role="toolbar" aria-label="Path" {@attach toolbar}>
  <SlotBar />
  <button
    class="button lever"
    data-act="add lever"
    aria-haspopup="dialog"
    title="One control that moves several settings"
    onclick={async () => (automation.lever = await newLever(workspace, 'Lever'))}>Lever</button
  >
  {#if also.length}
    <span
      class="also"
      data-figure="also_on"
      title="What is done to steps here is done to what stands for them on: {also
        .map((id) => workspace.stripNamed(id))
        .join(', ')}"
      >also on {also.length === 1 ? workspace.stripNamed(also[0]!) : `${also.length} strips`}</span
    >
  {/if}
  <div class="tools" role="group" aria-label="Splits">
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
        {#each Object.keys(BAND_STARTS) as count (count)}<option value={Number(count)}>{count}</option>{/each}
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
    {#if all.length > 1}
      <button class="button" aria-pressed={allBypassed} title="Shift+B" onclick={() => bypassPaths(workspace)}
        >{allBypassed ? 'Enable all' : 'Bypass all'}</button
      >
    {/if}
    {#if forked}
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

<style>
  .lever {
    flex: none;
    align-self: center;
    height: 1.25rem;
    margin: 0 auto 0 -4px;
    padding: 0 6px;
    font-size: 0.75rem;
    line-height: 1.125rem;
  }
  .also {
    flex: none;
    align-self: center;
    padding: 0 6px;
    font-size: 0.75rem;
    background: var(--ink);
    color: var(--plate);
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
</style>
