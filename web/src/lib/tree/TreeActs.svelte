<script lang="ts">
  /** What can be done with the strips that are chosen, and how new ones come; always in view beneath the tree. */
  import { newId } from '../api/client';
  import { toolbar } from '../controls/toolbar';
  import { chosenStrips, printable, printStrips, removeStrips } from '../state/strips';
  import { importFiles } from '../state/importing';
  import { workspace } from '../state/workspace.svelte';
  import { groupToBus } from './focus';

  interface Props {
    stageGain: () => void;
    /** Have a strip named. */
    rename: (id: string) => void;
  }
  let { stageGain, rename }: Props = $props();
  let picker = $state<HTMLInputElement | null>(null);
  const several = $derived(workspace.selection.stripIds.length);
  const feeding = $derived(chosenStrips(workspace).some((strip) => strip.kind !== 'main'));

  async function addBus(): Promise<void> {
    const id = newId();
    await workspace.edit({ op: 'add_strip', strip: { id, name: 'New bus', kind: 'bus' } });
    workspace.selection.choose(id);
    rename(id);
  }
</script>

<div class="acts" role="toolbar" aria-label="Strips" {@attach toolbar}>
  {#if several}<span class="soft">{several} strips</span>{/if}
  <button
    class="button"
    title="Add audio files as tracks; they can be dropped on the window too"
    onclick={() => picker?.click()}>Add tracks</button
  >
  <button class="button" onclick={addBus}>Add a bus</button>
  <button
    class="button"
    disabled={!feeding}
    title="A new bus that the chosen strips feed (Ctrl+B)"
    onclick={groupToBus}>Group to bus</button
  >
  <button class="button" onclick={stageGain}>Gain staging</button>
  {#if several}<button
      class="button"
      disabled={!chosenStrips(workspace).some(printable)}
      title="The chosen tracks play what leaves their paths, before level and pan"
      onclick={() => printStrips(workspace, chosenStrips(workspace))}>Print</button
    >
    <button class="button" title="Delete" onclick={() => removeStrips(workspace, chosenStrips(workspace))}
      >Remove</button
    >{/if}
</div>
<input
  type="file"
  multiple
  hidden
  aria-label="Audio files"
  accept=".wav,.flac,.aif,.aiff,.ogg,.opus,.mp3,.m4a,.rf64,.mid,.midi,audio/*"
  bind:this={picker}
  onchange={(event) => {
    void importFiles(workspace, event.currentTarget.files ?? []);
    event.currentTarget.value = '';
  }}
/>

<style>
  .acts {
    display: flex;
    flex-wrap: wrap;
    align-items: center;
    gap: 6px;
    padding: 8px 12px;
    border-top: 1px solid var(--line);
    font-size: 0.75rem;
  }
</style>
