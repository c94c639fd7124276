<script lang="ts">
  /** A chosen lane: its name, level, polarity and where it goes, and what can be done with it. */
  import { makeUp } from '../state/make-up.svelte';
  import type { Lane, Step } from '../api/client';
  import { soloLane } from '../state/scope';
  import { addCeiling, setLane } from '../state/splits';
  import { workspace } from '../state/workspace.svelte';
  import Rule from './Rule.svelte';

  let { lane, split }: { lane: Lane; split: Step } = $props();
  const SWITCHES = ['mute', 'solo', 'bypass', 'invert', 'linked'] as const;
  const buses = $derived(
    (workspace.session?.strips ?? []).filter(
      (strip) => strip.kind !== 'track' && strip.id !== workspace.selection.stripId,
    ),
  );
</script>

<div class="group">
  <h3 class="soft">Lane</h3>
  <label class="row">
    <span>Name</span>
    <input
      class="text"
      aria-label="Name of the lane"
      value={lane.name}
      maxlength="120"
      onkeydown={(event) => {
        event.stopPropagation();
        if (event.key === 'Enter') event.currentTarget.blur();
      }}
      onblur={(event) => {
        const name = event.currentTarget.value.trim();
        if (name && name !== lane.name) setLane(workspace, lane, { name });
      }}
    />
  </label>
  <Rule address={{ of: 'lane', id: lane.id, name: 'level_db' }} value={lane.level_db} />
  <label class="row" title="A bus gets the lane instead of the split's sum.">
    <span>Output</span>
    <select
      class="figure"
      aria-label="Output of the lane"
      value={lane.output ?? ''}
      onchange={(event) =>
        workspace.edit({ op: 'set_output', lane_id: lane.id, output: event.currentTarget.value || null })}
    >
      <option value="">sum of the split</option>
      {#each buses as bus (bus.id)}<option value={bus.id}>{bus.name}</option>{/each}
    </select>
  </label>
</div>
<div class="group">
  <h3 class="soft">Listening</h3>
  {#each SWITCHES as name (name)}
    {@const described = workspace.described.setting('lane', name)}
    <label class="row" title={described.help}>
      <span>{described.label}</span>
      <input
        type="checkbox"
        checked={lane[name]}
        onchange={(event) => setLane(workspace, lane, { [name]: event.currentTarget.checked })}
      />
    </label>
  {/each}
</div>
<div class="group acts">
  <h3 class="soft">Actions</h3>
  <button
    class="button"
    title="Sets the level so that the lane is as loud after its steps as before"
    aria-busy={makeUp.waiting.includes(lane.id)}
    onclick={() => void makeUp.ask(lane)}
    >{makeUp.waiting.includes(lane.id) ? 'Measuring ...' : 'Make up loudness'}</button
  >
  <button class="button" onclick={() => addCeiling(workspace, lane, -6)}>Add a ceiling at -6 dB</button>
  <button
    class="button"
    aria-pressed={workspace.listening.to === 'solo lane'}
    title="Listen to this lane alone; no edit (O)"
    onclick={() => soloLane(workspace)}>Solo lane</button
  >
  <button
    class="button"
    title="Each lane gets a bus of its own, to be mixed there"
    onclick={() => workspace.edit({ op: 'lanes_to_buses', step_id: split.id })}
    >Send all lanes to buses</button
  >
  <button class="button" onclick={() => workspace.edit({ op: 'remove_lane', lane_id: lane.id })}
    >Remove this lane</button
  >
</div>

<style>
  .row {
    display: grid;
    grid-template-columns: auto minmax(0, 1fr);
    column-gap: 8px;
    height: 1.75rem;
    align-items: center;
  }
  .row > :last-child {
    justify-self: end;
  }
  .text {
    width: 140px;
    max-width: 100%;
    height: 1.25rem;
    border: 1px solid var(--line);
    background: var(--plate);
    padding: 0 4px;
  }
  input[type='checkbox'] {
    accent-color: var(--after);
  }
  select {
    background: none;
    border: 0;
    border-bottom: 1px solid var(--ink-soft);
    max-width: 100%;
  }
  option {
    background: var(--plate);
  }
  .acts {
    display: grid;
    gap: 4px;
    align-content: start;
  }
  h3 {
    font-weight: 500;
    border-bottom: 1px solid var(--line);
    height: 1.375rem;
    margin-bottom: 2px;
  }
</style>
