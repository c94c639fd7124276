<script lang="ts">
  /** The levers of the chosen strip and of the session; one that learns says what to do. */
  import { automation } from '../state/automation.svelte';
  import { learning } from '../state/learning.svelte';
  import { workspace } from '../state/workspace.svelte';
  import Rule from './Rule.svelte';

  const own = $derived(workspace.selection.strip?.path.levers ?? []);
  const shared = $derived(workspace.session?.levers ?? []);
  const levers = $derived([
    ...own.map((lever) => ({ lever, whose: workspace.selection.strip?.name ?? '' })),
    ...shared.map((lever) => ({ lever, whose: 'session' })),
  ]);
  const learns = $derived(
    learning.lever ? levers.find(({ lever }) => lever.id === learning.lever)?.lever : null,
  );
</script>

<div class="bar" role="group" aria-label="Levers" class:none={!levers.length}>
  {#each levers as { lever, whose } (lever.id)}
    <div
      class="lever"
      data-lever={lever.name}
      title="{lever.name} ({whose}) moves {lever.targets.length} settings"
    >
      <Rule
        address={{ of: 'lever', id: lever.id, name: 'value' }}
        setting={{ ...workspace.described.setting('lever', 'value'), label: lever.name }}
        mark="lever {lever.name}"
        value={lever.value}
      />
      <button
        class="act"
        aria-haspopup="dialog"
        aria-label="Settings of the lever {lever.name}"
        title="What it moves"
        onclick={() => (automation.lever = lever.id)}>...</button
      >
    </div>
  {/each}
  {#if learns}
    <p class="learns" role="status">
      <b>{learns.name}</b> is learning: move settings to where they are to be at 100 %.
      <button class="button" data-act="learn end" onclick={() => learning.end()}>Learn this end</button>
      <button class="button" onclick={() => learning.cancel()}>Cancel</button>
    </p>
  {/if}
</div>

<style>
  .bar {
    display: flex;
    flex-wrap: wrap;
    align-items: center;
    gap: 4px 16px;
    padding: 2px 0;
    border-top: 1px solid var(--line);
  }
  .lever {
    display: grid;
    grid-template-columns: 9rem auto;
    column-gap: 4px;
    align-items: center;
  }
  .none {
    padding: 0;
    border: 0;
  }
  .learns {
    margin: 0;
    padding: 2px 8px;
    border-left: 3px solid var(--key);
  }
  .learns .button {
    height: 1.375rem;
    line-height: 1.125rem;
  }
</style>
