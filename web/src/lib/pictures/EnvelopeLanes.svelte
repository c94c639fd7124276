<script lang="ts">
  /** The lanes beneath the timeline, one for each value whose course is shown. */
  import { automation } from '../state/automation.svelte';
  import { keyOf } from '../state/course';
  import EnvelopeLane from './EnvelopeLane.svelte';

  const lanes = $derived(automation.lanes.filter((lane) => automation.scale(lane)));
</script>

{#if lanes.length}
  <div class="lanes" role="group" aria-label="Over time">
    {#each lanes as lane (keyOf(lane))}
      {#if automation.folded.includes(keyOf(lane))}
        <div class="line" data-folded={keyOf(lane)}>
          <span class="name"
            >{automation.setting(lane)?.label ?? lane.name}
            <span class="soft">{automation.of(lane)?.owner ?? ''}</span></span
          >
          <button
            class="act wide"
            aria-label="Unfold the lane of {automation.setting(lane)?.label ?? lane.name}"
            onclick={() => automation.fold(lane, false)}>Show</button
          >
        </div>
      {:else}<EnvelopeLane address={lane} />{/if}
    {/each}
  </div>
{/if}

<style>
  .line {
    display: flex;
    align-items: center;
    justify-content: space-between;
    height: 1.5rem;
    padding: 0 6px;
    border-top: 1px solid var(--line);
    background: var(--plate);
    font-size: 0.75rem;
  }
  .name {
    font-weight: 650;
    white-space: nowrap;
    overflow: hidden;
    text-overflow: ellipsis;
  }
  .name .soft {
    font-weight: 400;
  }
  .wide {
    width: auto;
    padding: 0 4px;
  }
  .lanes {
    max-height: 15rem;
    overflow-y: auto;
    border-bottom: 1px solid var(--line);
  }
</style>
