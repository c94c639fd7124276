<script lang="ts">
  /** What a detector listens to: the source, its trim, and what a mute of the source does. */
  import type { Step, Strip } from '../api/client';
  import { keyValue, sources } from '../map/links';
  import { labelOf, setKey, setSource } from '../state/routes';
  import { workspace } from '../state/workspace.svelte';
  import Rule from './Rule.svelte';

  let { step, strip }: { step: Step; strip: Strip } = $props();
  const groups = $derived(sources(workspace.session?.strips ?? [], strip, labelOf(workspace)));
  const chosen = $derived(keyValue(step.key));
  /** Without a key the step does nothing, and says so at once. */
  const needed = $derived(Boolean(workspace.described.processor(step.kind)?.needs_key));
  const silent = $derived(workspace.routing?.silent_keys[step.id]);
  const heard = $derived(workspace.listening.playing ? workspace.listening.header?.keys[step.id] : undefined);

  function choose(field: HTMLSelectElement): void {
    const all = groups.flatMap((group) => group.sources);
    setSource(workspace, step, all.find((source) => source.value === field.value)?.key ?? null);
    field.value = chosen; // until the server has agreed
  }
</script>

<label class="row" title="What the detector listens to. The sound itself is not changed by it.">
  <span>Key</span>
  <select
    class="figure"
    class:outside={step.key}
    aria-label="Key"
    data-setting="key"
    value={chosen}
    onchange={(event) => choose(event.currentTarget)}
  >
    <option value="">{needed ? 'none' : 'internal'}</option>
    {#each groups as group (group.name)}
      <optgroup label={group.name}>
        {#each group.sources as source (source.value)}<option value={source.value}>{source.label}</option
          >{/each}
      </optgroup>
    {/each}
  </select>
</label>
{#if needed && !step.key}<p class="silent" data-figure="no key">
    Choose a key: without one this step does nothing.
  </p>{/if}
{#if step.key}
  <Rule address={{ of: 'key', id: step.id, name: 'trim_db' }} mark="key_trim_db" value={step.key.trim_db} />
  <label class="row" title="Otherwise the key goes on though its source is muted.">
    <span>Follow source mute</span>
    <input
      type="checkbox"
      checked={step.key.mutes}
      onchange={(event) => setKey(workspace, step, { mutes: event.currentTarget.checked })}
    />
  </label>
  {#if silent}<p class="silent">{silent}</p>
  {:else}<p class="soft figure">
      {heard !== undefined && heard > -120 ? `level ${heard.toFixed(1)} dB` : 'silent now'}
    </p>{/if}
{/if}

<style>
  .row {
    display: grid;
    grid-template-columns: auto minmax(0, 1fr);
    column-gap: 8px;
    align-items: baseline;
    height: 2.0625rem;
  }
  select {
    appearance: none;
    background: none;
    border: 0;
    border-bottom: 1px solid var(--ink-soft);
    border-radius: 0;
    height: 1.5rem;
    padding: 0;
    min-width: 0;
    text-align: right;
    text-align-last: right;
    text-overflow: ellipsis;
    cursor: pointer;
  }
  .outside {
    border-bottom: 2px solid var(--key);
  }
  option,
  optgroup {
    background: var(--plate);
    color: var(--ink);
  }
  input {
    justify-self: end;
  }
  p {
    margin: 0;
    line-height: 1.0625rem;
    font-size: 0.75rem;
  }
  .silent {
    border-left: 3px solid var(--key);
    padding-left: 6px;
  }
</style>
