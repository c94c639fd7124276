<script lang="ts">
  /** The session's strips as a tree of what feeds what: levels in and out, GR as a notch, mute, solo, level. */
  import type { SettingValue, Strip } from '../api/client';
  import { workspace } from '../state/workspace.svelte';
  import { newId } from '../api/client';
  import { isKeyed } from '../state/routes';
  import Meters from './Meters.svelte';

  interface Row {
    strip: Strip;
    depth: number;
  }
  let renaming = $state<string | null>(null);
  let dragged = $state<string | null>(null);
  let over = $state<string | null>(null);
  let picker = $state<HTMLInputElement | null>(null);

  const strips = $derived(workspace.session?.strips ?? []);
  const rows = $derived.by(() => {
    const found: Row[] = [];
    const visit = (strip: Strip, depth: number) => {
      found.push({ strip, depth });
      strips.filter((child) => child.output === strip.id).forEach((child) => visit(child, depth + 1));
    };
    strips.filter((strip) => strip.kind === 'main').forEach((strip) => visit(strip, 0));
    strips
      .filter((strip) => strip.kind !== 'main' && strip.output === null)
      .forEach((strip) => visit(strip, 0));
    return found;
  });
  const silent = (strip: Strip) => workspace.routing?.strips[strip.id]?.silent ?? null;
  const keyOf = (strip: Strip) => workspace.routing?.strips[strip.id]?.keys ?? [];

  function put(strip: Strip, change: Record<string, SettingValue>, gesture: string | null = null): void {
    workspace.move('strip', strip.id, change, gesture);
  }

  let wheelGesture = '';
  let wheelEnd = 0;
  const levelWheel = (strip: Strip) => (element: HTMLElement) => {
    const turn = (event: WheelEvent) => {
      event.preventDefault();
      if (Date.now() > wheelEnd) wheelGesture = newId();
      wheelEnd = Date.now() + 600;
      const level = Math.max(-90, Math.min(12, strip.level_db + (event.deltaY < 0 ? 0.5 : -0.5)));
      put(strip, { level_db: Math.round(level * 10) / 10 }, wheelGesture);
    };
    element.addEventListener('wheel', turn, { passive: false });
    return () => element.removeEventListener('wheel', turn);
  };

  function typedLevel(strip: Strip, field: HTMLInputElement): void {
    const level = Number(field.value.replace(',', '.'));
    if (field.value.trim() && Number.isFinite(level))
      put(strip, { level_db: Math.max(-90, Math.min(12, level)) });
    field.value = strip.level_db.toFixed(1);
  }

  /** A strip dropped on a bus or the main feeds it; on a track it takes the place before that track. */
  function drop(target: Strip): void {
    const strip = strips.find((candidate) => candidate.id === dragged);
    over = dragged = null;
    if (!strip || strip.id === target.id || strip.kind === 'main') return;
    const others = strips.filter((other) => other.id !== strip.id);
    const at = others.findIndex((other) => other.id === target.id);
    const move =
      target.kind === 'track'
        ? { index: at, output: target.output }
        : { index: target.kind === 'main' ? others.length : at + 1, output: target.id };
    void workspace.edit({ op: 'move_strip', strip_id: strip.id, ...move });
  }

  function keys(event: KeyboardEvent, row: Row): void {
    const at = rows.findIndex((other) => other.strip.id === row.strip.id);
    const next = { ArrowDown: rows[at + 1], ArrowUp: rows[at - 1] }[event.key];
    if (event.altKey && next && row.strip.kind !== 'main' && next.strip.kind !== 'main') {
      const index = strips.findIndex((other) => other.id === next.strip.id);
      void workspace.edit({ op: 'move_strip', strip_id: row.strip.id, index });
    } else if (next && !event.altKey) {
      workspace.choose(next.strip.id);
      document.querySelector<HTMLElement>(`[data-strip="${next.strip.id}"] .name`)?.focus();
    } else if (event.key === 'F2') renaming = row.strip.id;
    else return;
    event.preventDefault();
    event.stopPropagation();
  }

  async function addBus(): Promise<void> {
    const id = newId();
    await workspace.edit({ op: 'add_strip', strip: { id, name: 'New bus', kind: 'bus' } });
    workspace.choose(id);
    renaming = id;
  }
  const focus = (field: HTMLInputElement) => field.select();
</script>

<nav class="tree" aria-label="Strips">
  <ul>
    {#each rows as { strip, depth } (strip.id)}
      <li
        data-strip={strip.id}
        class:chosen={strip.id === workspace.stripId}
        class:over={over === strip.id}
        class:silent={silent(strip)}
        draggable={strip.kind !== 'main' && renaming !== strip.id}
        ondragstart={() => (dragged = strip.id)}
        ondragend={() => (dragged = over = null)}
        ondragover={(event) => {
          event.preventDefault();
          over = strip.id;
        }}
        ondrop={(event) => {
          event.preventDefault();
          if (dragged) {
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
              if (name && name !== strip.name) put(strip, { name });
              renaming = null;
            }}
            onkeydown={(event) => {
              event.stopPropagation();
              if (event.key === 'Enter') event.currentTarget.blur();
              if (event.key === 'Escape') renaming = null;
            }}
          />
        {:else}
          <button
            class="name"
            style:padding-left="{10 + 9 * depth}px"
            class:bus={strip.kind !== 'track'}
            title="{strip.name}: {silent(strip) ??
              'double-click or F2 to rename, drag to a bus to feed it, Alt with the arrows to move'}"
            onclick={() => workspace.choose(strip.id)}
            ondblclick={() => (renaming = strip.id)}
            onkeydown={(event) => keys(event, { strip, depth })}
            >{strip.name}{#if isKeyed(strip)}<i class="keyed" title="A detector here listens to a key"
                >&#9666;</i
              >{/if}{#if keyOf(strip).length}<i class="keyed" title="Key of {keyOf(strip).join(', ')}"
                >&#9656;</i
              >{/if}</button
          >
        {/if}
        <span></span>
        <input
          class="level figure"
          aria-label="Level of {strip.name}, dB"
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
          title="Mute"
          onclick={() => put(strip, { mute: !strip.mute })}>M</button
        >
        {#if strip.kind !== 'main'}
          <button
            class="switch"
            class:on={strip.solo}
            aria-pressed={strip.solo}
            aria-label="Solo {strip.name}"
            title="Solo"
            onclick={() => put(strip, { solo: !strip.solo })}>S</button
          >
        {:else}<span></span>{/if}
      </li>
    {/each}
    <Meters strips={rows.map((row) => row.strip)} />
  </ul>
  <p class="soft">
    Drop audio files here, or <button class="link" onclick={() => picker?.click()}>add tracks</button> or
    <button class="link" onclick={addBus}>a bus</button>
  </p>
  <input
    type="file"
    multiple
    hidden
    aria-label="Audio files"
    accept=".wav,.flac,.aif,.aiff,.ogg,.opus,.mp3,.m4a,.rf64,audio/*"
    bind:this={picker}
    onchange={(event) => {
      workspace.importFiles(event.currentTarget.files ?? []);
      event.currentTarget.value = '';
    }}
  />
</nav>

<style>
  .tree {
    height: 100%;
    overflow: auto;
    padding: 8px 0;
  }
  ul {
    position: relative;
    list-style: none;
    margin: 0;
    padding: 0;
  }
  li {
    display: grid;
    grid-template-columns: minmax(0, 1fr) 34px 38px 18px 18px;
    column-gap: 3px;
    align-items: center;
    height: 28px;
    padding-right: 8px;
    border-left: 3px solid transparent;
  }
  .chosen {
    background: var(--plate);
    border-left-color: var(--after);
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
    height: 28px;
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
    height: 22px;
  }
  .level {
    width: 38px;
    text-align: right;
    border: 0;
    background: none;
    padding: 0;
    height: 20px;
  }
  .level:focus {
    background: var(--plate);
  }
  .switch {
    width: 18px;
    height: 18px;
    padding: 0;
    line-height: 16px;
    font-size: 11px;
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
  p {
    margin: 12px;
    font-size: 12px;
  }
  .link {
    border: 0;
    padding: 0;
    text-decoration: underline;
  }
</style>
