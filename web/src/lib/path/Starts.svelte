<script lang="ts">
  /** Starting points of a processor, and presets of one's own. */
  import type { Preset, Processor, SettingValue, Step } from '../api/client';
  import { presets } from '../state/presets.svelte';
  import { workspace } from '../state/workspace.svelte';

  let { step, processor, close }: { step: Step; processor: Processor; close: () => void } = $props();
  let name = $state('');
  let renaming = $state<number | null>(null);
  let picker = $state<HTMLInputElement | null>(null);

  $effect(() => {
    void presets.load(processor.kind);
  });
  const defaults = $derived(
    Object.fromEntries(processor.settings.map((setting) => [setting.name, setting.default])),
  );

  /** A starting point sets everything: what it does not name goes to its default. */
  const take = (settings: Record<string, SettingValue>) =>
    workspace.set(step.id, { ...defaults, ...settings });

  async function save(): Promise<void> {
    if (!name.trim()) return;
    await presets.save(name.trim(), step.settings);
    name = '';
  }
  async function rename(preset: Preset, to: string): Promise<void> {
    renaming = null;
    if (to.trim() && to.trim() !== preset.name) await presets.rename(preset, to.trim());
  }
  const focus = (field: HTMLInputElement) => field.focus();
</script>

<div class="menu" role="dialog" aria-label="Starting points">
  <h3>Starting points</h3>
  <p class="soft">A place to begin: press one, listen for what it says, then move the rules.</p>
  <ul>
    {#each processor.starts as start (start.name)}
      <li>
        <button class="start" onclick={() => take(start.settings)}>
          <b>{start.name}</b><span class="soft">{start.listen}</span>
        </button>
      </li>
    {:else}<li class="soft">This step has none.</li>{/each}
    <li>
      <button class="start" onclick={() => take({})}
        ><b>as it came</b><span class="soft">Everything to its default.</span></button
      >
    </li>
  </ul>
  <h3>Your presets</h3>
  <ul>
    {#each presets.list as preset (preset.id)}
      <li class="own">
        {#if renaming === preset.id}
          <input
            value={preset.name}
            aria-label="New name"
            {@attach focus}
            onkeydown={(event) => {
              event.stopPropagation();
              if (event.key === 'Enter') void rename(preset, event.currentTarget.value);
              if (event.key === 'Escape') renaming = null;
            }}
          />
        {:else}
          <button class="start" onclick={() => take(preset.settings as Record<string, SettingValue>)}
            ><b>{preset.name}</b></button
          >
          <button class="button" onclick={() => (renaming = preset.id)}>Rename</button>
          <button class="button" onclick={() => presets.remove(preset)}>Delete</button>
        {/if}
      </li>
    {:else}<li class="soft">None yet: give the present settings a name.</li>{/each}
  </ul>
  <form
    onsubmit={(event) => {
      event.preventDefault();
      void save();
    }}
  >
    <input
      placeholder="Name"
      aria-label="Name of the preset"
      maxlength="120"
      bind:value={name}
      onkeydown={(event) => event.stopPropagation()}
    />
    <button class="button" disabled={!name.trim()}>Save</button>
    <button type="button" class="button" disabled={!presets.list.length} onclick={() => presets.exportAll()}
      >Export</button
    >
    <button type="button" class="button" onclick={() => picker?.click()}>Import</button>
    <input
      type="file"
      accept=".json,application/json"
      hidden
      aria-label="Preset file"
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
    min-height: 200px;
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
