<script lang="ts">
  /**
   * The session's strips as a tree of what feeds what: levels in and out, GR as a notch, mute, solo, level. Several are chosen with
   * Shift and Ctrl; then level, mute, solo, output and removal are about all of them. Buses fold, and a search finds strips by name.
   */
  import { tick, untrack } from 'svelte';
  import type { Edit, Strip } from '../api/client';
  import { moveLevels, switchStrips, withChosen } from '../state/strips';
  import { within as limited } from '../controls/value';
  import { valueWheel } from '../draw/wheel';
  import { workspace } from '../state/workspace.svelte';
  import { recall, remember } from '../state/remember';
  import { focusStrip } from './focus';
  import Meters from './Meters.svelte';
  import { above, dropped, rowsOf, shownRows, type Row } from './rows';
  import StripName from './StripName.svelte';
  import TreeActs from './TreeActs.svelte';

  let { stageGain }: { stageGain: () => void } = $props();
  let renaming = $state<string | null>(null);
  let dragged = $state<string[]>([]);
  let over = $state<string | null>(null);
  let search = $state('');
  const memory = $derived(`folded.${workspace.version?.id}`);
  let folded = $derived(new Set(recall<string[]>(memory) ?? []));

  const strips = $derived(workspace.session?.strips ?? []);
  const all = $derived(rowsOf(strips));
  const rows = $derived(shownRows(all, folded, search));
  /** The row that Tab comes to. */
  const stop = $derived(rows.find((row) => row.strip.id === workspace.selection.stripId) ?? rows[0]);
  const silent = (strip: Strip) => workspace.routing?.strips[strip.id]?.silent ?? null;
  const chosen = (strip: Strip) =>
    strip.id === workspace.selection.stripId || workspace.selection.stripIds.includes(strip.id);

  function fold(id: string, hide: boolean): void {
    folded = new Set(hide ? [...folded, id] : [...folded].filter((other) => other !== id));
    remember(memory, [...folded]);
  }
  // What is chosen elsewhere, such as on the map or by a new bus, is in view here.
  $effect(() => {
    const id = workspace.selection.stripId;
    untrack(() => {
      if (search && !rows.some((row) => row.strip.id === id)) search = '';
      above(all, id).forEach((bus) => folded.has(bus) && fold(bus, false));
    });
    void tick().then(() =>
      document.querySelector(`nav.tree [data-strip="${id}"]`)?.scrollIntoView({ block: 'nearest' }),
    );
  });

  const WHEEL_DB = 0.5;
  const levelWheel = (strip: Strip) =>
    valueWheel((steps, _, gesture) =>
      moveLevels(workspace, withChosen(workspace, strip), steps * WHEEL_DB, gesture),
    );

  const range = $derived(workspace.described.setting('strip', 'level_db'));
  function typedLevel(strip: Strip, field: HTMLInputElement): void {
    const level = Number(
      field.value
        .trim()
        .replace(',', '.')
        .replace(/\s*db$/i, ''),
    );
    if (!field.value.trim() || !Number.isFinite(level))
      workspace.note(`${strip.name}: "${field.value}" is no level. Type a level in dB.`, 'error');
    else if (level !== limited(level, range))
      workspace.note(`A level is from ${range.minimum} to +${range.maximum} dB.`, 'error');
    else moveLevels(workspace, withChosen(workspace, strip), level - strip.level_db);
    field.value = strip.level_db.toFixed(1);
  }

  function press(event: MouseEvent, strip: Strip): void {
    if (event.shiftKey || event.ctrlKey || event.metaKey)
      workspace.selection.chooseStrips(
        strip.id,
        event.shiftKey,
        rows.map((row) => row.strip.id),
      );
    else {
      workspace.selection.stripIds = [];
      workspace.selection.choose(strip.id);
    }
  }

  function drop(target: Strip): void {
    const edits: Edit[] = dropped(strips, dragged, target);
    over = null;
    dragged = [];
    if (edits.length) void workspace.edit(edits.length === 1 ? edits[0]! : { op: 'batch', edits });
  }

  /** Level, mute and solo of a row: Tab comes to the row alone, right or Enter goes in, left out again. */
  const controls = (row: HTMLElement) => [...row.querySelectorAll<HTMLElement>('.level, .switch')];
  function within(event: KeyboardEvent, row: Row): void {
    const all = controls(event.currentTarget as HTMLElement);
    const at = all.indexOf(event.target as HTMLElement);
    const turn = { ArrowRight: 1, ArrowLeft: -1, Escape: -at - 1 }[event.key];
    if (at < 0 || !turn) return;
    event.preventDefault();
    event.stopPropagation();
    if (at + turn < 0) void focusStrip(row.strip.id);
    else all[Math.min(at + turn, all.length - 1)]!.focus();
  }
  function keys(event: KeyboardEvent, row: Row): void {
    if (event.target !== event.currentTarget) return within(event, row);
    const { id } = row.strip;
    if (event.key === 'ArrowRight' || event.key === 'ArrowLeft') {
      const left = event.key === 'ArrowLeft';
      if (row.beneath && folded.has(id) !== left) fold(id, left);
      else if (left && row.parent !== null) walkTo(row.parent);
      else if (!left && row.beneath) walkTo(rows[rows.indexOf(row) + 1]!.strip.id);
      else if (!left) controls(event.currentTarget as HTMLElement)[0]?.focus();
      event.preventDefault();
      event.stopPropagation();
      return;
    }
    const at = rows.findIndex((other) => other.strip.id === row.strip.id);
    const next = {
      ArrowDown: rows[at + 1],
      ArrowUp: rows[at - 1],
      Home: rows[0],
      End: rows.at(-1),
    }[event.key];
    if (event.altKey && next && row.strip.kind !== 'main' && next.strip.kind !== 'main') {
      const index = strips.findIndex((other) => other.id === next.strip.id);
      void workspace.edit({ op: 'move_strip', strip_id: row.strip.id, index });
    } else if (next && !event.altKey && !event.ctrlKey) {
      if (event.shiftKey)
        workspace.selection.chooseStrips(
          next.strip.id,
          false,
          rows.map((other) => other.strip.id),
        );
      else walkTo(next.strip.id);
      void focusStrip(next.strip.id);
    } else if (event.key === 'F2') renaming = row.strip.id;
    else if (event.key === 'Enter') controls(event.currentTarget as HTMLElement)[0]?.focus();
    else return;
    event.preventDefault();
    event.stopPropagation();
  }

  function walkTo(id: string): void {
    workspace.selection.stripIds = [];
    workspace.selection.choose(id);
    void focusStrip(id);
  }
  function finding(event: KeyboardEvent): void {
    event.stopPropagation();
    if (event.key === 'Escape') {
      search = '';
      void focusStrip(workspace.selection.stripId);
    } else if ((event.key === 'Enter' || event.key === 'ArrowDown') && rows[0]) walkTo(rows[0].strip.id);
  }
</script>

<nav class="tree" aria-label="Strips">
  <input
    type="search"
    placeholder="Find a strip"
    aria-label="Find a strip"
    title="By its name (/)"
    bind:value={search}
    onkeydown={finding}
  />
  <div class="rows" data-scrolls>
    <ul role="tree" aria-label="Strips" aria-multiselectable="true">
      {#each rows as row (row.strip.id)}
        {@const { strip, depth } = row}
        <li
          role="treeitem"
          data-strip={strip.id}
          aria-level={depth + 1}
          aria-selected={chosen(strip)}
          aria-label={strip.name}
          aria-expanded={row.beneath ? !folded.has(strip.id) : undefined}
          tabindex={row === stop ? 0 : -1}
          class:chosen={strip.id === workspace.selection.stripId}
          class:together={workspace.selection.stripIds.includes(strip.id)}
          class:over={over === strip.id}
          class:silent={silent(strip)}
          draggable={strip.kind !== 'main' && renaming !== strip.id}
          onkeydown={(event) => keys(event, row)}
          ondragstart={() => (dragged = withChosen(workspace, strip).map((other) => other.id))}
          ondragend={() => {
            dragged = [];
            over = null;
          }}
          ondragover={(event) => {
            event.preventDefault();
            over = strip.id;
          }}
          ondrop={(event) => {
            event.preventDefault();
            if (dragged.length) {
              event.stopPropagation();
              drop(strip);
            }
          }}
        >
          <StripName
            {row}
            renaming={renaming === strip.id}
            folded={folded.has(strip.id)}
            fold={(hide) => fold(strip.id, hide)}
            press={(event) => press(event, strip)}
            rename={() => (renaming = strip.id)}
            named={(name, back) => {
              if (renaming !== strip.id) return;
              renaming = null;
              if (name && name !== strip.name) workspace.move('strip', strip.id, { name });
              if (back) void focusStrip(strip.id);
            }}
          />
          <span></span>
          <input
            class="level figure"
            tabindex="-1"
            aria-label="Level of {strip.name}, dB"
            title="Type a level; the wheel moves it while it has the focus, or with Ctrl"
            value={strip.level_db.toFixed(1)}
            {@attach levelWheel(strip)}
            onchange={(event) => typedLevel(strip, event.currentTarget)}
            onkeydown={(event) => {
              if (!event.key.startsWith('Arrow') && event.key !== 'Escape') event.stopPropagation();
              if (event.key === 'Enter') void focusStrip(strip.id);
            }}
            onfocus={(event) => event.currentTarget.select()}
          />
          <button
            class="switch"
            tabindex="-1"
            class:muted={strip.mute}
            aria-pressed={strip.mute}
            aria-label="Mute {strip.name}"
            title="Mute (M)"
            onclick={() => switchStrips(workspace, withChosen(workspace, strip), 'mute')}>M</button
          >
          {#if strip.kind !== 'main'}
            <button
              class="switch"
              tabindex="-1"
              class:on={strip.solo}
              aria-pressed={strip.solo}
              aria-label="Solo {strip.name}"
              title="Solo (S)"
              onclick={() => switchStrips(workspace, withChosen(workspace, strip), 'solo')}>S</button
            >
          {:else}<span></span>{/if}
        </li>
      {/each}
    </ul>
    {#if search && !rows.length}<p class="soft">No strip is called so.</p>{/if}
    <Meters strips={rows.map((row) => row.strip)} />
  </div>
  <TreeActs {stageGain} rename={(id) => (renaming = id)} />
</nav>

<style>
  .tree {
    height: 100%;
    display: grid;
    grid-template-rows: auto minmax(0, 1fr) auto;
  }
  [type='search'] {
    margin: 6px 6px 2px 12px;
    height: 1.5rem;
    padding: 0 6px;
    border: 1px solid var(--line);
    background: var(--plate);
  }
  .rows {
    position: relative;
    overflow: auto;
    padding: 2px 0 8px;
  }
  p {
    margin: 4px 12px;
  }
  ul {
    list-style: none;
    margin: 0;
    padding: 0;
  }
  li {
    display: grid;
    grid-template-columns: minmax(0, 1fr) 2.125rem 2.375rem 1.5rem 1.5rem;
    column-gap: 2px;
    align-items: center;
    height: 1.75rem;
    padding-right: 6px;
    border-left: 3px solid transparent;
  }
  .chosen {
    background: var(--plate);
    border-left-color: var(--after);
  }
  .together {
    background: color-mix(in srgb, var(--after) 12%, transparent);
  }
  .over {
    outline: 1px dashed var(--after);
    outline-offset: -1px;
  }
  .level {
    width: 2.375rem;
    text-align: right;
    border: 0;
    background: none;
    padding: 0;
    height: 1.5rem;
  }
  .level:focus {
    background: var(--plate);
  }
  .switch {
    width: 1.5rem;
    height: 1.5rem;
    padding: 0;
    line-height: 1.375rem;
    font-size: 0.6875rem;
    color: var(--ink-soft);
    border: 1px solid var(--line);
    background: var(--plate);
  }
  .on {
    background: var(--ink);
    color: var(--plate);
  }
  .muted {
    border-color: var(--taken);
    color: var(--taken);
    text-decoration: line-through;
  }
</style>
