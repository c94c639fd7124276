<script lang="ts">
  /** Files that were dropped: put through the path of a strip, each a file of its own. */
  import Dialog from '../dialogs/Dialog.svelte';
  import { delivery } from '../state/delivery.svelte';
  import { workspace } from '../state/workspace.svelte';

  let { files, close }: { files: File[]; close: () => void } = $props();
  let strip = $state('main');
  let format = $state(delivery.setup?.formats[0] ?? 'wav24');
  let brought = $state(false);
  let loudness = $state(String(delivery.setup?.loudness_lufs ?? -14));
  let wrong = $state<string | null>(null);
  const strips = $derived(workspace.session?.strips.filter((strip) => strip.path.steps.length) ?? []);

  function start(): void {
    const value = Number(loudness.trim().replace(',', '.'));
    wrong = !brought || (loudness.trim() && value >= -60 && value <= 0) ? null : 'From -60 to 0 LUFS.';
    if (wrong) return;
    const chosen = files; // closing forgets them
    close();
    void workspace.jobs.batch(chosen, {
      strip_id: strip,
      format,
      loudness_lufs: brought ? value : null,
    });
  }
</script>

<Dialog
  title="Put {files.length === 1 ? 'a file' : `${files.length} files`} through a path"
  {close}
  width={26}
>
  <ul>
    {#each files.slice(0, 6) as file (file)}<li>{file.name}</li>{/each}
    {#if files.length > 6}<li class="soft">and {files.length - 6} more</li>{/if}
  </ul>
  <label
    ><span>Path of</span>
    <select bind:value={strip} data-first>
      {#if !strips.some(({ id }) => id === 'main')}<option value="main">Main (no steps)</option>{/if}
      {#each strips as strip (strip.id)}<option value={strip.id}>{strip.name}</option>{/each}
    </select></label
  >
  <label
    ><span>Format</span>
    <select bind:value={format}>
      {#each delivery.options?.formats ?? [] as format (format.name)}<option value={format.name}
          >{format.label}</option
        >{/each}
    </select></label
  >
  <div class="line">
    <label><input type="checkbox" bind:checked={brought} /> Bring each to</label>
    <input
      class="figure"
      inputmode="decimal"
      aria-label="Loudness, LUFS"
      disabled={!brought}
      bind:value={loudness}
    />
    LUFS, at most -1 dBTP
  </div>
  {#if wrong}<p class="wrong" role="status">{wrong}</p>{/if}
  <p class="soft">
    Keys from other tracks are not there: such detectors listen to the file itself. For whole folders there is
    <span class="figure">saltanvil batch</span> on the command line.
  </p>
  <div class="line">
    <button class="button" data-act="batch" onclick={start}>Process</button>
    <button class="button" onclick={close}>Cancel</button>
  </div>
</Dialog>

<style>
  ul {
    margin: 0 0 8px;
    padding: 0 0 0 16px;
  }
  li {
    overflow-wrap: anywhere;
  }
  label,
  .line {
    display: flex;
    gap: 8px;
    align-items: center;
    min-height: 2rem;
  }
  label > span {
    width: 64px;
  }
  select,
  input:not([type='checkbox']) {
    height: 1.625rem;
    background: var(--plate);
    border: 1px solid var(--edge);
  }
  select {
    flex: 1;
  }
  input:not([type='checkbox']) {
    width: 64px;
    padding: 0 6px;
  }
  p {
    margin: 4px 0;
    font-size: 0.75rem;
    line-height: 1rem;
  }
  .wrong {
    color: var(--taken);
  }
</style>
