<script lang="ts">
  /** Ready-made paths and splits, and paths of one's own: chosen steps, a split, a lane's or the strip's whole path. */
  import type { Preset, Step } from '../api/client';
  import { presets } from '../state/presets.svelte';
  import { chosenSteps, insertSteps } from '../state/steps';
  import { workspace } from '../state/workspace.svelte';
  import { unnamed } from './tree';

  let { close }: { close: () => void } = $props();
  let name = $state('');
  let picker = $state<HTMLInputElement | null>(null);

  $effect(() => {
    void presets.load('path');
  });

  /** What would be kept. */
  const kept = $derived.by((): { steps: Step[]; what: string } => {
    const chosen = chosenSteps(workspace);
    if (chosen.length) return { steps: chosen, what: chosen[0]!.lanes ? 'this split' : 'the chosen steps' };
    if (workspace.lane)
      return { steps: workspace.lane.path.steps, what: `the path of ${workspace.lane.name}` };
    return { steps: workspace.strip?.path.steps ?? [], what: `the path of ${workspace.strip?.name ?? ''}` };
  });

  async function put(steps: Step[]): Promise<void> {
    close();
    await insertSteps(workspace, unnamed(steps));
  }
  async function save(): Promise<void> {
    if (!name.trim() || !kept.steps.length) return;
    await presets.save(name.trim(), { steps: unnamed(kept.steps) });
    name = '';
  }
  const stepsOf = (preset: Preset) => (preset.settings as { steps: Step[] }).steps;
</script>

<div class="menu" role="dialog" aria-label="Ready-made">
  <h3>Ready-made</h3>
  <p class="soft">Press one: it is put behind what is chosen. Then listen for what it says.</p>
  <ul>
    {#each workspace.pathStarts as start (start.name)}
      <li>
        <button class="start" onclick={() => put(start.path.steps)}>
          <b>{start.name}</b><span class="soft">{start.listen}</span>
        </button>
      </li>
    {/each}
  </ul>
  <h3>Your own paths</h3>
  <ul>
    {#each presets.list as preset (preset.id)}
      <li class="own">
        <button class="start" onclick={() => put(stepsOf(preset))}><b>{preset.name}</b></button>
        <button class="button" onclick={() => presets.remove(preset)}>Delete</button>
      </li>
    {:else}<li class="soft">None yet.</li>{/each}
  </ul>
  <form
    onsubmit={(event) => {
      event.preventDefault();
      void save();
    }}
  >
    <input
      placeholder="Keep {kept.what} as"
      aria-label="Name of the path"
      maxlength="120"
      bind:value={name}
      onkeydown={(event) => event.stopPropagation()}
    />
    <button class="button" disabled={!name.trim() || !kept.steps.length}>Save</button>
    <button type="button" class="button" disabled={!presets.list.length} onclick={() => presets.exportAll()}
      >Export</button
    >
    <button type="button" class="button" onclick={() => picker?.click()}>Import</button>
    <input
      type="file"
      accept=".json,application/json"
      hidden
      aria-label="Path file"
      bind:this={picker}
      onchange={(event) => {
        const file = event.currentTarget.files?.[0];
        if (file) void presets.import(file);
        event.currentTarget.value = '';
      }}
    />
  </form>
</div>
<div class="veil" role="presentation" onpointerdown={close}></div>

<style>
  .menu {
    position: fixed;
    top: 92px;
    left: 50%;
    margin-left: -120px;
    width: 440px;
    max-width: 95vw;
    max-height: calc(100vh - 160px);
    overflow: auto;
    z-index: 20;
    background: var(--plate);
    border: 1px solid var(--ink-soft);
    padding: 8px 12px;
    white-space: normal;
  }
  .veil {
    position: fixed;
    inset: 0;
    z-index: 10;
  }
  p {
    margin: 0 0 4px;
  }
  ul {
    list-style: none;
    margin: 0 0 8px;
    padding: 0;
  }
  .start {
    display: flex;
    flex-direction: column;
    flex: 1;
    width: 100%;
    text-align: left;
    padding: 4px 8px;
    border: 0;
  }
  .start:hover {
    background: var(--ground);
  }
  .start span {
    font-size: 12px;
    line-height: 16px;
  }
  .own,
  form {
    display: flex;
    gap: 8px;
    align-items: center;
  }
  input {
    flex: 1;
    min-width: 0;
    height: 24px;
    border: 1px solid var(--line);
    background: var(--ground);
    padding: 0 8px;
  }
</style>
