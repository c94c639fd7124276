<script lang="ts">
  /** The session's edits in words, the newest first: a press goes there, a digit puts what was there into a slot. */
  import { api, type HistoryView } from '../api/client';
  import { nameOfScope } from '../state/scope';
  import { SLOTS, slotScope } from '../state/slots.svelte';
  import { workspace } from '../state/workspace.svelte';
  import Dialog from './Dialog.svelte';

  let { close }: { close: () => void } = $props();
  let history = $state.raw<HistoryView | null>(null);
  const scope = $derived(slotScope(workspace));
  const revision = $derived(workspace.version?.revision);

  $effect(() => {
    void revision;
    const id = workspace.version?.id;
    if (id !== undefined)
      void workspace.attempt(async () => {
        history = await api.history(id);
      }, true);
  });
  const clockOf = (date: Date) =>
    date.toLocaleTimeString([], { hour: '2-digit', minute: '2-digit', second: '2-digit' });
  const when = (at: number | null) => {
    if (at === null) return '';
    const date = new Date(at * 1000);
    const today = date.toDateString() === new Date().toDateString();
    const day = date.toLocaleDateString([], { day: 'numeric', month: 'short' });
    return today ? clockOf(date) : `${day} ${clockOf(date)}`;
  };
  let search = $state('');
  let strip = $state('');
  /** An edit says first whose it is: "Snare compressor: ...", "Snare: ...". */
  const shown = $derived(
    (history?.edits ?? []).filter(({ words }) => {
      const text = (words ?? '').toLowerCase();
      const parts = search.toLowerCase().split(/\s+/);
      return text.includes(strip.toLowerCase()) && parts.every((word) => text.includes(word));
    }),
  );
</script>

<Dialog title="History" {close} width={40} side="right">
  <p class="soft">
    Press an edit to go back or forward to it.
    {scope ? ` 1 to 4: copy that version of ${nameOfScope(workspace)} to a slot.` : ''}
  </p>
  <div class="line">
    <input placeholder="Search" aria-label="Search the edits" bind:value={search} data-first />
    <select aria-label="Edits of" bind:value={strip}>
      <option value="">all strips</option>
      {#each workspace.session?.strips ?? [] as one (one.id)}<option value={one.name}>{one.name}</option
        >{/each}
    </select>
  </div>
  <ol>
    {#each shown as edit (edit.position)}
      <li class:undone={edit.undone}>
        <span class="figure soft">{when(edit.made_at)}</span>
        <button
          class="edit"
          aria-current={edit.position === history?.position ? 'step' : undefined}
          data-position={edit.position}
          onclick={() => workspace.history.goTo(edit.position)}
          >{edit.words ?? 'An edit of an earlier version'}</button
        >
        <span class="into">
          {#each SLOTS as slot (slot)}
            <button
              class="act"
              disabled={!scope || scope.stored.on === slot}
              aria-label="Copy that version to slot {slot}"
              title="Copy that version to slot {slot}"
              onclick={() => scope && workspace.history.slotFrom(edit.position, scope, slot)}>{slot}</button
            >
          {/each}
        </span>
      </li>
    {:else}{#if history?.edits.length}<li class="soft">No edit says that.</li>{/if}
    {/each}
    <li>
      <span></span>
      <button
        class="edit"
        aria-current={history?.position === 0 ? 'step' : undefined}
        data-position="0"
        onclick={() => workspace.history.goTo(0)}>Beginning</button
      >
    </li>
  </ol>
</Dialog>

<style>
  p {
    margin: 4px 0 8px;
  }
  .line {
    display: flex;
    gap: 8px;
    margin-bottom: 8px;
  }
  .line > * {
    height: 1.75rem;
    padding: 0 8px;
    border: 1px solid var(--edge);
    background: var(--ground);
  }
  .line input {
    flex: 1;
  }
  .line select {
    max-width: 12rem;
  }
  ol {
    margin: 0;
    padding: 0;
    list-style: none;
    max-height: 60vh;
    overflow: auto;
  }
  li {
    display: grid;
    grid-template-columns: 7.5rem minmax(0, 1fr) auto;
    gap: 8px;
    align-items: center;
    border-bottom: 1px solid var(--line);
  }
  .edit {
    min-height: 1.75rem;
    border: 0;
    text-align: left;
    background: none;
  }
  .edit[aria-current] {
    font-weight: 650;
    box-shadow: inset 3px 0 var(--after);
    padding-left: 8px;
  }
  .undone .edit {
    color: var(--ink-soft);
  }
  .into {
    display: flex;
    gap: 2px;
  }
</style>
