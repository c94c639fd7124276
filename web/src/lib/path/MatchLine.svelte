<script lang="ts">
  /** How a step's loudness is held: the gain that was found, the stretch it was measured over, and whether it still is. */
  import type { Step, Stretch } from '../api/client';
  import { format } from '../controls/value';
  import { workspace } from '../state/workspace.svelte';
  import { overValue, stretchName, stretchOf } from './stretch';

  let { step }: { step: Step } = $props();
  const sections = $derived(workspace.session?.sections ?? []);
  const over = $derived<Stretch>(step.match_over ?? {});
  const match = $derived(step.match);
  const measuring = $derived(workspace.matching.includes(step.id));
  const chosen = $derived(overValue(over));

  function choose(field: HTMLSelectElement): void {
    void workspace.edit({
      op: 'set_match_over',
      step_id: step.id,
      over: stretchOf(field.value, workspace.listening.passage),
    });
    field.value = chosen; // until the server has agreed
  }
</script>

<label
  class="row"
  title="The loudness compensation is measured over this stretch, whatever passage you listen to."
>
  <span>Measured over</span>
  <select
    class="figure"
    aria-label="Measured over"
    value={chosen}
    onchange={(event) => choose(event.currentTarget)}
  >
    <option value="">whole song</option>
    {#each sections as section (section.id)}<option value={section.id}>{section.name}</option>{/each}
    {#if chosen === 'range'}<option value="range">{stretchName(over, sections)}</option>{/if}
    <option value="passage">this passage</option>
  </select>
</label>
<p class="soft" data-figure="match" data-measuring={measuring}>
  {#if measuring}Measuring ... {match ? 'the last gain sounds until then.' : 'a guess sounds until then.'}
  {:else if match?.refused}{match.refused}
  {:else if match && step.lanes}Treated lane {format(match.matched_db, 'dB')}
  {:else if match}Compensated by {format(match.matched_db, 'dB')}
  {:else}Not measured yet.{/if}
  {#if match && !match.over && !measuring}Measured over a passage by an earlier version.{/if}
</p>

<style>
  .row {
    display: grid;
    grid-template-columns: auto minmax(0, 1fr);
    column-gap: 8px;
    align-items: baseline;
    height: 2.0625rem;
    white-space: nowrap;
  }
  select {
    appearance: none;
    height: 1.5rem;
    padding: 0;
    text-align: right;
    text-align-last: right;
    text-overflow: ellipsis;
    cursor: pointer;
    background: none;
    border: 0;
    border-bottom: 1px solid var(--ink-soft);
    border-radius: 0;
    min-width: 0;
    justify-self: end;
    max-width: 100%;
  }
  option {
    background: var(--plate);
  }
  p {
    margin: 0;
    line-height: 1.0625rem;
  }
</style>
