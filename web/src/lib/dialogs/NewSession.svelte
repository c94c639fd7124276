<script lang="ts">
  /** A session made in one place: name, rate, tempo, beats, and the files it begins with. */
  import { api } from '../api/client';
  import { importFiles } from '../state/importing';
  import { workspace } from '../state/workspace.svelte';
  import Dialog from './Dialog.svelte';

  let { close, files: dropped = [] }: { close: () => void; files?: File[] } = $props();
  let name = $state('');
  let rate = $state('files');
  let tempo = $state('120');
  let beats = $state(4);
  // svelte-ignore state_referenced_locally
  let files = $state.raw<File[]>(dropped);
  let picker = $state<HTMLInputElement | null>(null);
  let wrong = $state<string | null>(null);
  const bpm = $derived(Number(tempo.trim().replace(',', '.')));

  async function create(): Promise<void> {
    wrong = bpm >= 20 && bpm <= 300 ? null : 'The tempo is from 20 to 300 bpm.';
    if (wrong) return;
    const made = await workspace.attempt(() =>
      api.create({
        name: name.trim() || 'New session',
        rate_hz: rate === 'files' ? 48000 : Number(rate),
        tempo_bpm: bpm,
        beats_in_bar: beats,
      }),
    );
    if (!made) return;
    close();
    await workspace.attempt(() => workspace.open(made.id));
    if (files.length) await importFiles(workspace, files, 'name', rate === 'files');
  }
</script>

<Dialog title="New session" {close} width={26}>
  <form
    onsubmit={(event) => {
      event.preventDefault();
      void create();
    }}
  >
    <label
      ><span>Name</span>
      <input bind:value={name} maxlength="120" placeholder="New session" data-first /></label
    >
    <label
      ><span>Sample rate</span>
      <select bind:value={rate}>
        <option value="files">Same as files</option>
        {#each [44100, 48000, 88200, 96000] as hz (hz)}<option value={String(hz)}>{hz / 1000} kHz</option
          >{/each}
      </select></label
    >
    <label
      ><span>Tempo</span>
      <span class="with"
        ><input class="figure" inputmode="decimal" aria-label="Tempo, bpm" bind:value={tempo} /> bpm</span
      ></label
    >
    <label
      ><span>Beats in a bar</span>
      <input class="figure" type="number" min="1" max="16" bind:value={beats} /></label
    >
    <label
      ><span>Files</span>
      <span class="with"
        ><button type="button" class="button" data-act="files" onclick={() => picker?.click()}
          >Choose files</button
        >
        <span class="soft">{files.length ? `${files.length} chosen` : 'or drop them later'}</span></span
      ></label
    >
    <input
      type="file"
      multiple
      hidden
      aria-label="Audio files of the new session"
      accept=".wav,.flac,.aif,.aiff,.ogg,.opus,.mp3,.m4a,.rf64,.mid,.midi,audio/*"
      bind:this={picker}
      onchange={(event) => (files = [...(event.currentTarget.files ?? [])])}
    />
    <p class="wrong" role="status">{wrong ?? ''}</p>
    <div class="line">
      <button class="button" type="button" onclick={close}>Cancel</button>
      <button class="button" type="submit">Create</button>
    </div>
  </form>
</Dialog>

<style>
  label {
    display: grid;
    grid-template-columns: 7.5rem minmax(0, 1fr);
    align-items: center;
    min-height: 2rem;
  }
  .with {
    display: flex;
    gap: 8px;
    align-items: center;
  }
  input,
  select {
    height: 1.625rem;
    padding: 0 6px;
    border: 1px solid var(--edge);
    background: var(--ground);
    min-width: 0;
  }
  .line {
    display: flex;
    justify-content: flex-end;
    gap: 8px;
  }
  .wrong {
    min-height: 1.25rem;
    margin: 4px 0;
    color: var(--taken);
  }
</style>
