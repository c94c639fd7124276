<script lang="ts">
  /**
   * The session's strips as a tree of what feeds what: levels in and out, GR as a notch, mute, solo, level. Several are chosen with
   * Shift and Ctrl; then level, mute, solo, output and removal are about all of them.
   */
  import type { Edit, Strip } from '../api/client';
  import { newId } from '../api/client';
  import { isKeyed } from '../state/routes';
  import { busOf, chosenStrips, moveLevels, removeStrips, switchStrips, withChosen } from '../state/strips';
  import { within } from '../controls/value';
  import { valueWheel } from '../draw/wheel';
  import { workspace } from '../state/workspace.svelte';
  import Meters from './Meters.svelte';
  import { dropped, rowsOf, type Row } from './rows';

  let { stageGain }: { stageGain: () => void } = $props();
  let renaming = $state<string | null>(null);
  let dragged = $state<string[]>([]);
  let over = $state<string | null>(null);
  let picker = $state<HTMLInputElement | null>(null);

  const strips = $derived(workspace.session?.strips ?? []);
  const rows = $derived(rowsOf(strips));
  const silent = (strip: Strip) => workspace.routing?.strips[strip.id]?.silent ?? null;
  const keyOf = (strip: Strip) => workspace.routing?.strips[strip.id]?.keys ?? [];
  const chosen = (strip: Strip) =>
    strip.id === workspace.selection.stripId || workspace.selection.stripIds.includes(strip.id);
  const several = $derived(workspace.selection.stripIds.length > 1);

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
      workspace.note(`${strip.name}: "${field.value}" is no level in dB.`, 'error');
    else if (level !== within(level, range))
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

  function keys(event: KeyboardEvent, row: Row): void {
    if (event.target !== event.currentTarget) return;
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
      else {
        workspace.selection.stripIds = [];
        workspace.selection.choose(next.strip.id);
      }
      document.querySelector<HTMLElement>(`[data-strip="${next.strip.id}"]`)?.focus();
    } else if (event.key === 'F2') renaming = row.strip.id;
    else return;
    event.preventDefault();
    event.stopPropagation();
  }

  async function addBus(): Promise<void> {
    const id = newId();
    await workspace.edit({ op: 'add_strip', strip: { id, name: 'New bus', kind: 'bus' } });
    workspace.selection.choose(id);
    renaming = id;
  }
  const focus = (field: HTMLInputElement) => {
    field.focus();
    field.select();
  };
</script>

<nav class="tree" aria-label="Strips">
  <ul role="tree" aria-label="Strips" aria-multiselectable="true">
    {#each rows as { strip, depth } (strip.id)}
      <li
        role="treeitem"
        data-strip={strip.id}
        aria-level={depth + 1}
        aria-selected={chosen(strip)}
        aria-label={strip.name}
        tabindex={strip.id === workspace.selection.stripId ? 0 : -1}
        class:chosen={strip.id === workspace.selection.stripId}
        class:together={workspace.selection.stripIds.includes(strip.id)}
        class:over={over === strip.id}
        class:silent={silent(strip)}
        draggable={strip.kind !== 'main' && renaming !== strip.id}
        onkeydown={(event) => keys(event, { strip, depth })}
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
        {#if renaming === strip.id}
          <input
            class="rename"
            aria-label="Name"
            value={strip.name}
            maxlength="120"
            {@attach focus}
            onblur={(event) => {
              const name = event.currentTarget.value.trim();
              if (name && name !== strip.name) workspace.move('strip', strip.id, { name });
              renaming = null;
            }}
            onkeydown={(event) => {
              event.stopPropagation();
              if (event.key === 'Enter') event.currentTarget.blur();
              if (event.key === 'Escape') renaming = null;
            }}
          />
        {:else}
          <span
            class="name"
            role="presentation"
            style:padding-left="{10 + 9 * depth}px"
            class:bus={strip.kind !== 'track'}
            title="{strip.name}: {silent(strip) ??
              'double-click or F2 to rename, drag to a bus to feed it, Alt with the arrows to move'}"
            onclick={(event) => press(event, strip)}
            ondblclick={() => (renaming = strip.id)}
            >{strip.name}{#if isKeyed(strip)}<i class="keyed" title="A detector here listens to a key"
                >&#9666;</i
              >{/if}{#if keyOf(strip).length}<i class="keyed" title="Key of {keyOf(strip).join(', ')}"
                >&#9656;</i
              >{/if}</span
          >
        {/if}
        <span></span>
        <input
          class="level figure"
          aria-label="Level of {strip.name}, dB"
          title="Type a level; the wheel moves it while it has the focus, or with Ctrl"
          value={strip.level_db.toFixed(1)}
          {@attach levelWheel(strip)}
          onchange={(event) => typedLevel(strip, event.currentTarget)}
          onkeydown={(event) => {
            event.stopPropagation();
            if (event.key === 'Enter') event.currentTarget.blur();
          }}
          onfocus={(event) => event.currentTarget.select()}
        />
        <button
          class="switch"
          class:muted={strip.mute}
          aria-pressed={strip.mute}
          aria-label="Mute {strip.name}"
          title="Mute (M)"
          onclick={() => switchStrips(workspace, withChosen(workspace, strip), 'mute')}>M</button
        >
        {#if strip.kind !== 'main'}
          <button
            class="switch"
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
  <Meters strips={rows.map((row) => row.strip)} />
  <div class="acts">
    {#if several}
      <span class="soft">{workspace.selection.stripIds.length} strips</span>
      <button class="button" title="Ctrl+B" onclick={() => busOf(workspace, chosenStrips(workspace))}
        >Bus from them</button
      >
      <button class="button" onclick={stageGain}>Stage gain</button>
      <button class="button" title="Delete" onclick={() => removeStrips(workspace, chosenStrips(workspace))}
        >Remove</button
      >
    {:else}
      <button class="button" onclick={() => picker?.click()}>Add tracks</button>
      <button class="button" onclick={addBus}>Add a bus</button>
      <button class="button" onclick={stageGain}>Stage gain</button>
      <span class="soft">or drop audio files here</span>
    {/if}
  </div>
  <input
    type="file"
    multiple
    hidden
    aria-label="Audio files"
    accept=".wav,.flac,.aif,.aiff,.ogg,.opus,.mp3,.m4a,.rf64,.mid,.midi,audio/*"
    bind:this={picker}
    onchange={(event) => {
      void workspace.importFiles(event.currentTarget.files ?? []);
      event.currentTarget.value = '';
    }}
  />
</nav>

<style>
  .tree {
    position: relative;
    height: 100%;
    overflow: auto;
    padding: 8px 0;
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
  .silent .name {
    color: var(--ink-soft);
  }
  .name {
    padding: 0;
    border: 0;
    text-align: left;
    white-space: nowrap;
    overflow: hidden;
    text-overflow: ellipsis;
    height: 1.75rem;
    line-height: 1.75rem;
    cursor: pointer;
  }
  .acts {
    display: flex;
    flex-wrap: wrap;
    align-items: center;
    gap: 6px;
    margin: 10px 12px;
    font-size: 0.75rem;
  }
  .bus {
    font-weight: 650;
  }
  .keyed {
    margin-left: 4px;
    font-style: normal;
    font-weight: 400;
    color: var(--key);
  }
  .rename {
    margin-left: 12px;
    width: calc(100% - 12px);
    border: 1px solid var(--ink-soft);
    background: var(--plate);
    height: 1.375rem;
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
