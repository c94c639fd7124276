<script lang="ts">
  /** Choose a figure, say the target, and have the setting found; it says how near one gets where it cannot be reached. */
  import { onDestroy, untrack } from 'svelte';
  import { numberText } from '../number';
  import { aiming } from '../state/aiming.svelte';
  import { nameOfScope } from '../state/scope';
  import { workspace } from '../state/workspace.svelte';
  import Dialog from './Dialog.svelte';

  let { close }: { close: () => void } = $props();
  let figure = $state(aiming.aims[0]?.name ?? '');
  let target = $state(aiming.aims[0]?.target ?? 0);
  let setting = $state(aiming.aims[0] ? (aiming.settingsOf(aiming.aims[0])[0]?.name ?? '') : '');
  const aim = $derived(aiming.aims.find(({ name }) => name === figure));
  const settings = $derived(aim ? aiming.settingsOf(aim) : []);

  aiming.refused = '';
  onDestroy(() => aiming.asking.cancel());

  function choose(name: string): void {
    figure = name;
    const next = aiming.aims.find((candidate) => candidate.name === name);
    if (!next) return;
    target = next.target;
    setting = aiming.settingsOf(next)[0]?.name ?? '';
    aiming.refused = '';
  }

  $effect(() => {
    void workspace.version?.revision;
    const { passage } = workspace.listening;
    void [passage.start_s, passage.end_s];
    const asked = aim;
    if (asked) untrack(() => void aiming.look(asked, setting));
  });

  async function find(event: Event): Promise<void> {
    event.preventDefault();
    if (await aiming.find(figure, target, setting)) close();
  }
</script>

<Dialog title="Aim: {nameOfScope(workspace)}" {close} width={26}>
  {#if aim}
    <form onsubmit={find}>
      <p class="soft">
        The setting is found on the passage, {workspace.listening.passage.name}, and set as one edit.
      </p>
      <label
        ><span>Figure</span>
        <select
          data-first
          aria-label="Figure"
          value={figure}
          onchange={(event) => choose(event.currentTarget.value)}
        >
          {#each aiming.aims as one (one.name)}<option value={one.name}>{one.label}</option>{/each}
        </select>
      </label>
      <label
        ><span>Target</span>
        <span class="target"
          ><input
            class="figure"
            type="number"
            step="any"
            min={aim.low}
            max={aim.high}
            required
            aria-label="Target"
            bind:value={target}
          />
          {aim.unit}
          <span class="soft figure" role="status" data-figure="aim_now"
            >{aiming.now?.figure === figure
              ? `now ${numberText(aiming.now.value)} ${aim.unit}`
              : 'measuring ...'}</span
          ></span
        >
      </label>
      <label
        ><span>By</span>
        <select aria-label="By" bind:value={setting}>
          {#each settings as one (one.name)}<option value={one.name}>{one.label}</option>{/each}
        </select>
      </label>
      <p class="acts">
        {#if aiming.asking.fraction !== null}
          <progress value={aiming.asking.fraction} aria-label="Search"></progress>
          <button class="button" type="button" onclick={() => aiming.asking.cancel()}>Cancel</button>
        {:else}
          <button class="button" data-act="find">Find</button>
        {/if}
      </p>
      {#if aiming.refused}<p class="refused" role="alert" data-figure="aim_refused">{aiming.refused}</p>{/if}
    </form>
  {:else}
    <p class="soft" tabindex="-1" data-first>
      Nothing can be asked of this; choose a compressor, gate, limiter, clipper, another step with a figure of
      its own, a lane or a strip.
    </p>
  {/if}
</Dialog>

<style>
  label {
    display: grid;
    grid-template-columns: 6rem 1fr;
    align-items: center;
    min-height: 2rem;
  }
  .target {
    display: flex;
    align-items: center;
    gap: 8px;
  }
  select,
  input {
    height: 1.75rem;
    color: var(--ink);
    background: var(--plate);
    border: 1px solid var(--edge);
  }
  input {
    width: 7rem;
  }
  .acts {
    display: flex;
    gap: 8px;
    align-items: center;
    justify-content: flex-end;
    margin: 8px 0 4px;
  }
  progress {
    flex: 1;
    accent-color: var(--after);
  }
  .refused {
    border-left: 3px solid var(--taken);
    padding-left: 8px;
    margin: 8px 0 4px;
  }
</style>
