<script lang="ts">
  /** All shortcuts: found by a word or a key, changed by pressing another one. */
  import Dialog from './Dialog.svelte';
  import { GESTURES, keyOf, shortcuts, SHORTCUTS } from '../state/shortcuts.svelte';

  let { close }: { close: () => void } = $props();
  let search = $state('');
  let changing = $state<string | null>(null);
  let refused = $state<string | null>(null);
  const wanted = $derived(search.trim().toLowerCase());
  const matches = (...texts: string[]) => texts.some((text) => text.toLowerCase().includes(wanted));
  const groups = $derived(
    [...new Set(SHORTCUTS.map((shortcut) => shortcut.group))]
      .map((name) => ({
        name,
        rows: SHORTCUTS.filter(
          (row) => row.group === name && matches(row.what, shortcuts.keyFor(row.id), name),
        ),
      }))
      .filter((group) => group.rows.length),
  );
  const gestures = $derived(GESTURES.filter((row) => matches(...row)));

  function press(event: KeyboardEvent, id: string): void {
    if (changing !== id || ['Shift', 'Control', 'Alt', 'Meta', 'Tab'].includes(event.key)) return;
    event.preventDefault();
    event.stopPropagation();
    if (event.key !== 'Escape') refused = shortcuts.assign(id, keyOf(event));
    else refused = null;
    changing = null;
  }
</script>

<Dialog title="Help and shortcuts" {close} width={34} side="right">
  <div class="line">
    <input placeholder="Search" aria-label="Search the shortcuts" bind:value={search} data-first />
    <button class="button" disabled={!shortcuts.anyChanged} onclick={() => shortcuts.reset()}
      >Reset all</button
    >
  </div>
  <p class="refused" role="status">{refused ?? ''}</p>
  {#each groups as group (group.name)}
    <h3>{group.name}</h3>
    <dl>
      {#each group.rows as row (row.id)}
        <dt>{row.what}</dt>
        <dd>
          <button
            class="button figure"
            class:changing={changing === row.id}
            data-shortcut={row.id}
            aria-label="{row.what}: {changing === row.id ? 'press a key' : shortcuts.keyFor(row.id)}"
            title="Press to change"
            onclick={() => {
              refused = null;
              changing = changing === row.id ? null : row.id;
            }}
            onkeydown={(event) => press(event, row.id)}
            >{changing === row.id ? 'press a key' : shortcuts.keyFor(row.id)}</button
          >
        </dd>
      {/each}
    </dl>
  {/each}
  {#if gestures.length}
    <h3>Pointer and lists</h3>
    <dl>
      {#each gestures as [where, what] (where)}<dt>{what}</dt>
        <dd class="soft">{where}</dd>{/each}
    </dl>
  {/if}
  {#if !groups.length && !gestures.length}<p class="soft">No match.</p>{/if}
</Dialog>

<style>
  .line {
    display: flex;
    gap: 8px;
  }
  input {
    flex: 1;
    height: 1.75rem;
    padding: 0 8px;
    border: 1px solid var(--edge);
    background: var(--ground);
  }
  .refused {
    min-height: 1.125rem;
    margin: 4px 0 0;
    color: var(--taken);
  }
  dl {
    display: grid;
    grid-template-columns: minmax(0, 1fr) auto;
    column-gap: 12px;
    margin: 0 0 8px;
  }
  dt,
  dd {
    margin: 0;
    padding: 2px 0;
    border-bottom: 1px solid var(--line);
    min-height: 1.75rem;
    line-height: 1.5rem;
  }
  dd {
    text-align: right;
  }
  dd .button {
    min-width: 72px;
    height: 1.5rem;
    line-height: 1.25rem;
  }
  .changing {
    border-color: var(--after);
    color: var(--after);
  }
</style>
