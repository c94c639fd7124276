<script lang="ts">
  /** After an import: what the names, the times and the markers of the files suggest, done in one press and one edit. */
  import type { Edit, ImportView } from '../api/client';
  import { workspace } from '../state/workspace.svelte';
  import Dialog from './Dialog.svelte';

  let { view, close }: { view: ImportView; close: () => void } = $props();
  const TITLES = {
    buses: 'Group under buses',
    times: 'Start at the times in the files',
    sections: 'Sections from markers',
    tempo: 'Tempo from the MIDI file',
  };
  // svelte-ignore state_referenced_locally
  let chosen = $state(view.proposals.map((proposal) => proposal.name));

  async function apply(): Promise<void> {
    const edits = view.proposals
      .filter((proposal) => chosen.includes(proposal.name))
      .map((proposal) => proposal.edit as Edit);
    close();
    if (!edits.length) return;
    await workspace.edit(edits.length === 1 ? edits[0]! : { op: 'batch', edits });
    workspace.note('Done with the new tracks.', 'note', {
      label: 'Undo',
      run: () => void workspace.history.undo(),
    });
  }
</script>

<Dialog title="{view.strip_ids.length} {view.strip_ids.length === 1 ? 'track' : 'tracks'} imported" {close}>
  {#each view.notes as note (note)}<p class="soft">{note}</p>{/each}
  {#each view.proposals as proposal (proposal.name)}
    <label>
      <input type="checkbox" value={proposal.name} bind:group={chosen} />
      <span><b>{TITLES[proposal.name]}</b><br /><span class="soft">{proposal.text}</span></span>
    </label>
  {/each}
  <div class="line">
    <button class="button" onclick={close}>{view.proposals.length ? 'Leave as it is' : 'Close'}</button>
    {#if view.proposals.length}<button
        class="button"
        data-act="apply"
        disabled={!chosen.length}
        onclick={apply}>Apply</button
      >{/if}
  </div>
</Dialog>

<style>
  label {
    display: grid;
    grid-template-columns: 24px minmax(0, 1fr);
    align-items: start;
    padding: 6px 0;
    border-bottom: 1px solid var(--line);
    overflow-wrap: anywhere;
  }
  p {
    margin: 4px 0;
  }
  .line {
    display: flex;
    justify-content: flex-end;
    gap: 8px;
    margin-top: 10px;
  }
</style>
