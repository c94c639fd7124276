<script lang="ts">
  /** What stands beside a lane: of what it is, and what can be done with it. */
  import { automation } from '../state/automation.svelte';
  import { keyOf, type Address } from '../state/course';

  let { address, label }: { address: Address; label: string } = $props();
  const key = $derived(keyOf(address));
  const owner = $derived(automation.of(address)?.owner ?? '');
  const envelope = $derived(automation.envelope(address));
</script>

<div class="side">
  <span class="name" title="{owner} {label}">{label}</span>
  <span class="owner soft">{owner}</span>
  <span class="acts">
    <button
      class="act wide"
      class:on={automation.armed.includes(key)}
      aria-pressed={automation.armed.includes(key)}
      aria-label="Record {label} by hand"
      title="Record by hand: while it plays, what you do with the control is written down"
      onclick={() => automation.toggleArmed(address)}>Rec</button
    >
    {#if automation.armed.includes(key)}
      <button
        class="act wide"
        class:on={automation.latch}
        aria-pressed={automation.latch}
        aria-label="Go on writing after letting go"
        title="Go on writing after letting go, until it stops"
        onclick={() => (automation.latch = !automation.latch)}>Latch</button
      >
    {/if}
    {#if envelope}
      <button
        class="act wide"
        class:on={envelope.bypass}
        aria-pressed={envelope.bypass}
        aria-label="Turn the envelope of {label} off"
        title="Envelope off"
        onclick={() => automation.edit(address, { bypass: !envelope.bypass })}>Off</button
      >
    {/if}
    <button
      class="act"
      aria-haspopup="dialog"
      aria-label="{label} over time"
      title="Points and values, typed"
      onclick={() => (automation.menu = address)}>...</button
    >
    <button
      class="act"
      aria-label="Fold the lane of {label}"
      title="Fold to a line"
      onclick={() => automation.fold(address, true)}>&minus;</button
    >
    <button
      class="act"
      aria-label="Close the lane of {label}"
      title="Close the lane; the envelope stays"
      onclick={() => automation.close(address)}>x</button
    >
  </span>
</div>

<style>
  .side {
    display: grid;
    grid-template-rows: auto auto 1fr;
    align-content: start;
    padding: 4px 6px;
    min-width: 0;
    border-right: 1px solid var(--line);
    font-size: 0.75rem;
    line-height: 1rem;
  }
  .name,
  .owner {
    white-space: nowrap;
    overflow: hidden;
    text-overflow: ellipsis;
  }
  .name {
    font-weight: 650;
  }
  .wide {
    width: auto;
    padding: 0 3px;
  }
  .acts {
    display: flex;
    gap: 3px;
    align-self: end;
  }
</style>
