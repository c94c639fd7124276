<script lang="ts">
  /** Which strips, how much of them, and in which format. */
  import Dialog from '../dialogs/Dialog.svelte';
  import type { FileFormat } from '../api/client';
  import { workspace } from '../state/workspace.svelte';

  let { close }: { close: () => void } = $props();
  let chosen = $state<string[]>(['main']);
  let format = $state<FileFormat>('wav24');
  let what = $state<'all' | 'passage'>('all');
  let tail = $state(true);
  const FORMATS: [FileFormat, string][] = [
    ['wav16', 'WAV 16 bit, dithered'],
    ['wav24', 'WAV 24 bit, dithered'],
    ['wav32f', 'WAV 32 bit float'],
    ['flac16', 'FLAC 16 bit, dithered'],
    ['flac24', 'FLAC 24 bit, dithered'],
  ];

  async function start(): Promise<void> {
    close();
    await workspace.export(chosen, format, what === 'passage', tail);
  }
</script>

<Dialog title="Export" {close} width={24} side="right">
  <fieldset>
    <legend class="soft">Strips, after their level and pan</legend>
    {#each workspace.session?.strips ?? [] as strip (strip.id)}
      <label><input type="checkbox" value={strip.id} bind:group={chosen} /> {strip.name}</label>
    {/each}
  </fieldset>
  <fieldset>
    <legend class="soft">Length</legend>
    <label><input type="radio" value="all" bind:group={what} /> Everything</label>
    <label
      ><input type="radio" value="passage" bind:group={what} /> The passage: {workspace.listening.passage
        .name}</label
    >
    <label title="Echoes and rooms go on until they are below -90 dBFS, for 30 s at most">
      <input type="checkbox" bind:checked={tail} disabled={what === 'passage'} /> Let the end decay</label
    >
  </fieldset>
  <label class="line">
    Format
    <select bind:value={format} aria-label="Format">
      {#each FORMATS as [name, label] (name)}<option value={name}>{label}</option>{/each}
    </select>
  </label>
  <p class="soft">
    At {workspace.session?.rate_hz} Hz. Mute counts; solo, matched, the ear check and low latency are for listening
    and are not rendered. Dither is TPDF, once, at the end.
  </p>
  <div class="line">
    <button class="button" disabled={!chosen.length} onclick={start}
      >Export {chosen.length === 1 ? 'one file' : `${chosen.length} files`}</button
    >
    <button class="button" onclick={close}>Cancel</button>
  </div>
</Dialog>

<style>
  fieldset {
    border: 0;
    border-top: 1px solid var(--line);
    margin: 8px 0 0;
    padding: 4px 0;
    display: grid;
    grid-template-columns: 1fr 1fr;
  }
  .line {
    display: flex;
    gap: 8px;
    align-items: center;
    margin-top: 4px;
  }
  select {
    background: var(--ground);
    border: 1px solid var(--line);
    height: 1.625rem;
  }
  p {
    font-size: 0.75rem;
    line-height: 1rem;
  }
</style>
