<script lang="ts">
  /** All shortcuts, found by a word or a key, changed by pressing another one; and what the words and the steps of this tool mean. */
  import Dialog from './Dialog.svelte';
  import { workspace } from '../state/workspace.svelte';
  import { GESTURES, keyOf, shortcuts, SHORTCUTS } from '../state/shortcuts.svelte';

  let { close }: { close: () => void } = $props();
  /** What this tool means by its words. */
  const WORDS: readonly (readonly [string, string])[] = [
    [
      'Strip',
      'A track, a bus or the main: sound comes in, goes through its path, and leaves with a level and a pan.',
    ],
    [
      'Path',
      'The steps of a strip, from left to right. A split sends the sound through several lanes, which are summed again.',
    ],
    ['Step', 'One processor on a path, such as a compressor. Switched off it does nothing.'],
    ['Lane', 'One branch of a split: a copy, a band, or the middle or the sides, with steps of its own.'],
    [
      'Scope',
      'What is listened to and measured: the chosen step, lane or strip. Before is its input, After its output.',
    ],
    [
      'Passage',
      'The stretch of the song that is played and measured; a section, or what is dragged in the timeline.',
    ],
    [
      'Matched',
      'Before is played as loud as After, so that the louder one does not win. For listening only, never in a file.',
    ],
    ['Slot', 'One of four stored versions of a step, a lane or a path, to be compared with one key each.'],
    ['Lever', 'One control that moves several settings, each within a range of its own.'],
    ['Key', 'The sound that a detector listens to, if it is not the sound that is processed.'],
    ['Ledger', 'The figures of the scope over the passage, before and after.'],
  ];
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
  const words = $derived(WORDS.filter((row) => matches(...row)));
  const processors = $derived(
    workspace.described.processors.filter((one) =>
      matches(one.label, one.summary, one.about, ...one.aliases),
    ),
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
  {#if words.length}
    <h3>Words</h3>
    <dl class="words">
      {#each words as [word, what] (word)}<dt>{word}</dt>
        <dd>{what}</dd>{/each}
    </dl>
  {/if}
  {#if processors.length}
    <h3>Steps</h3>
    <dl class="words">
      {#each processors as one (one.kind)}<dt>{one.label}</dt>
        <dd data-about={one.kind}>{one.summary} {one.about}</dd>{/each}
    </dl>
  {/if}
  {#if !groups.length && !words.length && !processors.length && !gestures.length}<p class="soft">
      No match.
    </p>{/if}
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
  .words {
    grid-template-columns: 7rem minmax(0, 1fr);
  }
  .words dd {
    text-align: left;
    line-height: 1.125rem;
  }
  .changing {
    border-color: var(--after);
    color: var(--after);
  }
</style>
