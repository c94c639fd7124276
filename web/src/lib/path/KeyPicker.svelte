<script lang="ts">
  /** What a detector can listen to, by strip: searched by words, walked by arrows, taken by Enter; a loop is grey, with the reason. */
  import type { Key, KeyGroup, KeySource } from '../api/client';
  import Dialog from '../dialogs/Dialog.svelte';

  interface Props {
    groups: KeyGroup[];
    chosen: KeySource | null;
    /** What stands for no key. */
    none: string;
    take: (key: Key | null) => void;
    close: () => void;
  }
  let { groups, chosen, none, take, close }: Props = $props();
  let search = $state('');

  interface Row {
    /** Stands before the first row of a strip, and before the first strip of a kind. */
    strip: string | null;
    kind: string | null;
    label: string;
    refused: string | null;
    key: Key | null;
    chosen: boolean;
  }
  const KINDS = { track: 'Tracks', bus: 'Buses', main: 'Main' };
  const plain = (text: string) => text.toLowerCase();
  const rows = $derived.by((): Row[] => {
    const words = plain(search).split(/\s+/).filter(Boolean);
    const found = (text: string) => words.every((word) => plain(text).includes(word));
    const result: Row[] = found(none)
      ? [{ strip: null, kind: null, label: none, refused: null, key: null, chosen: chosen === null }]
      : [];
    let kind = '';
    for (const group of groups) {
      const title = group.own ? 'This path' : KINDS[group.kind];
      let first = true;
      for (const source of group.sources) {
        if (!found(`${group.own ? 'this path ' : ''}${group.name} ${source.label}`)) continue;
        result.push({
          strip: first ? group.name : null,
          kind: title === kind ? null : title,
          label: source.label,
          refused: source.refused,
          key: source.key,
          chosen: source === chosen,
        });
        [first, kind] = [false, title];
      }
    }
    return result;
  });
  const open = $derived(rows.flatMap((row, index) => (row.refused === null ? [index] : [])));
  // svelte-ignore state_referenced_locally
  let at = $state(
    Math.max(
      0,
      rows.findIndex((row) => row.chosen),
    ),
  );

  function choose(index: number): void {
    const row = rows[index];
    if (!row || row.refused !== null) return;
    close();
    if (!row.chosen) take(row.key);
  }
  function keys(event: KeyboardEvent): void {
    event.stopPropagation();
    if (event.key === 'Escape') close();
    else if (event.key === 'Enter') choose(at);
    else if (event.key === 'ArrowDown') at = open.find((index) => index > at) ?? at;
    else if (event.key === 'ArrowUp') at = open.findLast((index) => index < at) ?? at;
    else return;
    event.preventDefault();
  }
  const shown = (button: HTMLElement) => {
    $effect(() => {
      if (rows[Number(button.dataset['row'])] && at === Number(button.dataset['row']))
        button.scrollIntoView({ block: 'nearest' });
    });
  };
</script>

<Dialog title="Key" {close} untitled>
  <input
    placeholder="Search the strips, lanes and steps"
    aria-label="Search the keys"
    bind:value={search}
    oninput={() => (at = open[0] ?? 0)}
    onkeydown={keys}
    data-first
  />
  <ul>
    {#each rows as row, index (index)}
      {#if row.kind !== null}<li class="kind">{row.kind}</li>{/if}
      {#if row.strip !== null}<li class="strip">{row.strip}</li>{/if}
      <li>
        <button
          data-row={index}
          class:at={index === at}
          class:chosen={row.chosen}
          aria-current={row.chosen ? 'true' : undefined}
          aria-disabled={row.refused !== null}
          {@attach shown}
          onclick={() => choose(index)}
          >{row.label}{#if row.refused !== null}<span class="soft">{row.refused}</span>{/if}</button
        >
      </li>
    {:else}
      <li class="soft none">No match.</li>
    {/each}
  </ul>
</Dialog>

<style>
  input {
    width: 100%;
    height: 1.75rem;
    border: 1px solid var(--line);
    background: var(--ground);
    padding: 0 8px;
  }
  ul {
    list-style: none;
    margin: 8px 0 0;
    padding: 0;
    max-height: min(500px, calc(100vh - 270px));
    overflow: auto;
  }
  .kind {
    margin-top: 8px;
    padding: 0 8px;
    font-size: 0.75rem;
    color: var(--ink-soft);
    border-bottom: 1px solid var(--line);
  }
  .strip {
    padding: 4px 8px 0;
    font-weight: 650;
  }
  button {
    width: 100%;
    text-align: left;
    padding: 2px 8px 2px 24px;
    border: 0;
  }
  .at,
  button:hover {
    background: var(--ground);
  }
  .chosen {
    box-shadow: inset 3px 0 var(--key);
  }
  button[aria-disabled='true'] {
    color: var(--ink-soft);
    cursor: default;
  }
  button span {
    margin-left: 8px;
    font-size: 0.75rem;
  }
  .none {
    padding: 4px 8px;
  }
</style>
