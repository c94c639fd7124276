<script lang="ts">
  import ExportDialog from './lib/sessions/ExportDialog.svelte';
  import Help from './lib/sessions/Help.svelte';
  import Jobs from './lib/sessions/Jobs.svelte';
  import SessionMenu from './lib/sessions/SessionMenu.svelte';
  import {
    bypassSteps,
    chosenSteps,
    copySteps,
    duplicateSteps,
    pasteSteps,
    removeSteps,
    swapOrder,
  } from './lib/state/steps';
  import { dissolve, divide, setLane } from './lib/state/splits';
  import { workspace } from './lib/state/workspace.svelte';
  import Latency from './lib/transport/Latency.svelte';
  import Transport from './lib/transport/Transport.svelte';
  import Bench from './views/Bench.svelte';
  import MapView from './views/Map.svelte';
  import Shape from './views/Shape.svelte';

  type Theme = 'salt' | 'iron';
  const VIEWS = ['shape', 'map', 'bench'] as const;
  const VIEW_NAMES = { shape: 'Shape', map: 'Map', bench: 'Bench' };
  type View = (typeof VIEWS)[number];
  let view = $state<View>(VIEWS.find((name) => name === localStorage.getItem('saltanvil.view')) ?? 'shape');
  let open = $state<'sessions' | 'export' | 'help' | null>(null);
  let adding = $state(false);
  let bands = $state(4);
  let dropping = $state(false);
  let started = $state(false);
  const system: Theme = matchMedia('(prefers-color-scheme: dark)').matches ? 'iron' : 'salt';
  let theme = $state<Theme>((localStorage.getItem('saltanvil.theme') as Theme | null) ?? system);

  $effect(() => {
    document.documentElement.dataset['theme'] = theme;
  });
  void workspace.start().finally(() => (started = true));

  const session = $derived(workspace.session);

  function turnTheme(): void {
    theme = theme === 'salt' ? 'iron' : 'salt';
    localStorage.setItem('saltanvil.theme', theme);
  }

  function show(name: View): void {
    view = name;
    localStorage.setItem('saltanvil.view', name);
  }

  function keys(event: KeyboardEvent): void {
    const target = event.target as HTMLElement;
    if (target.matches('input, select, textarea') || !workspace.session) return;
    if ((event.ctrlKey || event.metaKey) && event.key.toLowerCase() === 'z') {
      event.preventDefault();
      void (event.shiftKey ? workspace.redo() : workspace.undo());
      return;
    }
    if (event.key === 'Escape') {
      open = null;
      adding = false;
    }
    if ((event.ctrlKey || event.metaKey) && !event.shiftKey && !event.altKey) {
      const several = { c: copySteps, v: pasteSteps, d: duplicateSteps }[event.key.toLowerCase()];
      if (!several || (event.key === 'c' && getSelection()?.toString())) return;
      event.preventDefault();
      void several(workspace);
      return;
    }
    if (event.ctrlKey || event.metaKey || event.altKey) return;
    const { strip, lane } = workspace;
    const acts: Record<string, () => void> = {
      ' ': () => workspace.toggle(),
      l: () => workspace.setLoop(!workspace.loop),
      z: () => workspace.listen('before'),
      x: () => workspace.listen('after'),
      c: () => workspace.listen('taken'),
      o: () => workspace.hearOnly(),
      m: () => workspace.setMatched(!workspace.matched),
      v: () => {
        const step = event.shiftKey ? VIEWS.length - 1 : 1;
        show(VIEWS[(VIEWS.indexOf(view) + step) % VIEWS.length]!);
      },
      a: () => (adding = true),
      b: () =>
        lane && !event.shiftKey
          ? setLane(workspace, lane, { bypass: !lane.bypass })
          : bypassSteps(workspace, event.shiftKey ? (strip?.path.steps ?? []) : chosenSteps(workspace)),
      g: () => workspace.hearKey(),
      r: () => void swapOrder(workspace),
      p: () => divide(workspace, 'copies'),
      f: () => divide(workspace, 'bands', bands),
      w: () => divide(workspace, 'mid/side'),
      u: () => dissolve(workspace),
      s: () =>
        lane
          ? setLane(workspace, lane, { solo: !lane.solo })
          : strip && strip.kind !== 'main' && workspace.move('strip', strip.id, { solo: !strip.solo }),
      d: () =>
        lane
          ? setLane(workspace, lane, { mute: !lane.mute })
          : strip && workspace.move('strip', strip.id, { mute: !strip.mute }),
      Delete: () => removeSteps(workspace),
      '?': () => (open = 'help'),
    };
    const act = acts[event.key.length === 1 ? event.key.toLowerCase() : event.key];
    if (!act) return;
    event.preventDefault();
    act();
  }

  function drop(event: DragEvent): void {
    dropping = false;
    if (!event.dataTransfer?.files.length) return;
    event.preventDefault();
    workspace.importFiles(event.dataTransfer.files);
  }
</script>

<svelte:window
  onkeydown={keys}
  ondragover={(event) => {
    if (!event.dataTransfer?.types.includes('Files')) return;
    event.preventDefault();
    dropping = true;
  }}
  ondragleave={(event) => !event.relatedTarget && (dropping = false)}
  ondrop={drop}
/>

<div class="app" class:dropping>
  <header>
    <svg viewBox="0 0 16 16" aria-hidden="true"
      ><path d="M1 4h4V3h10v2c-2 1-4 1.500-5 3v1l3 3v2H4v-2l2-3C3 9 1 7 1 4z" /></svg
    >
    <button class="session" aria-haspopup="dialog" onclick={() => (open = 'sessions')}
      >{session?.name ?? 'Sessions'}</button
    >
    {#if session}<span class="soft">{session.tempo_bpm} bpm &middot; {session.rate_hz / 1000} kHz</span>{/if}
    <nav aria-label="Views">
      {#each VIEWS as name (name)}
        <button
          class="tab"
          class:on={view === name}
          aria-current={view === name ? 'page' : undefined}
          title="Next view (V)"
          onclick={() => show(name)}>{VIEW_NAMES[name]}</button
        >
      {/each}
    </nav>
    <span class="space"></span>
    <span class="soft saved" aria-live="polite">{workspace.saving ? 'Saving' : session ? 'Saved' : ''}</span>
    {#if workspace.lost}<span
        class="lost"
        role="status"
        title="The page connects again by itself. Edits made meanwhile are kept and sent then."
        >Not connected{workspace.saving ? `, ${workspace.saving} to send` : ''}</span
      >{/if}
    <Latency />
    <button disabled={!workspace.version?.can_undo} title="Ctrl+Z" onclick={() => workspace.undo()}
      >Undo</button
    >
    <button disabled={!workspace.version?.can_redo} title="Ctrl+Shift+Z" onclick={() => workspace.redo()}
      >Redo</button
    >
    <button disabled={!session} onclick={() => (open = 'export')}>Export</button>
    <button title="Light or dark" onclick={turnTheme}>{theme === 'salt' ? 'Iron' : 'Salt'}</button>
    <button aria-label="Keys" title="Keys (?)" onclick={() => (open = 'help')}>?</button>
  </header>
  {#if session && view === 'map'}
    <MapView shape={() => show('shape')} />
  {:else if session && view === 'bench'}
    <Bench bind:adding bind:bands />
  {:else if session}
    <Shape bind:adding bind:bands />
  {:else}
    <div class="empty">
      {#if started}
        <p>No session is open.</p>
        <button class="button" onclick={() => (open = 'sessions')}>Open or make one</button>
      {:else}<p class="soft">Opening ...</p>{/if}
    </div>
  {/if}
  <Transport />
  <Jobs />
  {#if open === 'sessions'}<SessionMenu close={() => (open = null)} />{/if}
  {#if open === 'export'}<ExportDialog close={() => (open = null)} />{/if}
  {#if open === 'help'}<Help close={() => (open = null)} />{/if}
</div>

<style>
  .app {
    height: 100%;
    display: grid;
    grid-template-rows: 40px minmax(0, 1fr) minmax(52px, auto);
  }
  .dropping {
    outline: 3px dashed var(--after);
    outline-offset: -3px;
  }
  header {
    display: flex;
    align-items: center;
    gap: 8px;
    padding: 0 12px;
    background: var(--plate);
    border-bottom: 1px solid var(--line);
    white-space: nowrap;
    overflow: hidden;
  }
  header svg {
    width: 20px;
    flex: none;
    fill: var(--ink);
  }
  .session {
    font-weight: 650;
    overflow: hidden;
    text-overflow: ellipsis;
  }
  nav {
    margin-left: 48px;
    display: flex;
  }
  .tab {
    padding: 0 12px;
    height: 40px;
    border-width: 0 0 3px;
    color: var(--ink-soft);
  }
  .tab.on {
    border-bottom-color: var(--after);
    color: var(--ink);
    font-weight: 650;
  }
  @media (max-width: 760px) {
    nav {
      margin-left: 0;
    }
    header > .soft {
      display: none;
    }
  }
  .space {
    flex: 1;
  }
  .lost {
    color: var(--taken);
  }
  .empty {
    display: grid;
    place-content: center;
    justify-items: center;
  }
</style>
