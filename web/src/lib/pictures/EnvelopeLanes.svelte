<script lang="ts">
  /** The lanes beneath the timeline, one for each value whose course is shown. */
  import { automation } from '../state/automation.svelte';
  import { keyOf } from '../state/course';
  import EnvelopeLane from './EnvelopeLane.svelte';

  const lanes = $derived(automation.lanes.filter((lane) => automation.scale(lane)));
</script>

{#if lanes.length}
  <div class="lanes" role="group" aria-label="Over time">
    {#each lanes as lane (keyOf(lane))}<EnvelopeLane address={lane} />{/each}
  </div>
{/if}

<style>
  .lanes {
    max-height: 15rem;
    overflow-y: auto;
    border-bottom: 1px solid var(--line);
  }
</style>
