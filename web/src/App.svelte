<script lang="ts">
  import { onMount } from 'svelte';
  import { aboutSteps, actFor, compares } from './lib/actions';
  import Announcer from './lib/announce/Announcer.svelte';
  import AimDialog from './lib/dialogs/AimDialog.svelte';
  import Blind from './lib/dialogs/Blind.svelte';
  import Help from './lib/dialogs/Help.svelte';
  import History from './lib/dialogs/History.svelte';
  import Imported from './lib/dialogs/Imported.svelte';
  import { dialogs } from './lib/dialogs/open.svelte';
  import NewSession from './lib/dialogs/NewSession.svelte';
  import Sections from './lib/dialogs/Sections.svelte';
  import LeverTable from './lib/dialogs/LeverTable.svelte';
  import OverTime from './lib/dialogs/OverTime.svelte';
  import OverTimeList from './lib/dialogs/OverTimeList.svelte';
  import StageGain from './lib/dialogs/StageGain.svelte';
  import { automation } from './lib/state/automation.svelte';
  import { coming } from './lib/state/coming.svelte';
  import { delivery } from './lib/state/delivery.svelte';
  import Jobs from './lib/sessions/Jobs.svelte';
  import SessionMenu from './lib/sessions/SessionMenu.svelte';
  import { addressOf, hashOf, titleOf, VIEW_NAMES, VIEWS } from './lib/state/address';
  import { page } from './lib/state/page.svelte';
  import { keyOf, shortcuts } from './lib/state/shortcuts.svelte';
  import { importFiles } from './lib/state/importing';
  import { workspace } from './lib/state/workspace.svelte';
  import Latency from './lib/transport/Latency.svelte';
  import Transport from './lib/transport/Transport.svelte';
  import { PARTS } from './views/views';

  type Theme = 'salt' | 'iron';
  let dropped = $state.raw<File[]>([]);
  let dropping = $state(false);
  let started = $state(false);
  const system: Theme = matchMedia('(prefers-color-scheme: dark)').matches ? 'iron' : 'salt';
  let theme = $state<Theme>((localStorage.getItem('saltanvil.theme') as Theme | null) ?? system);

  const session = $derived(workspace.session);
  const view = $derived(page.view);
  const Part = $derived(PARTS[view]);

  $effect(() => {
    document.documentElement.dataset['theme'] = theme;
  });
  $effect(() => {
    document.title = titleOf(session?.name ?? null, view);
  });
  /** The address follows the session that is open. */
  $effect(() => {
    const id = workspace.version?.id ?? null;
    const shown = addressOf(location.hash).session;
    if (id === null || shown === id) return;
    // From one session to another, so that back leads to the first.
    const how = shown === null ? 'replaceState' : 'pushState';
    history[how](null, '', hashOf({ session: id, view }));
  });
  onMount(() => {
    void workspace.start(addressOf(location.hash).session).finally(() => {
      started = true;
      const [entry] = performance.getEntriesByType('navigation') as PerformanceNavigationTiming[];
      if (entry?.type !== 'reload') page.opened();
    });
  });

  /** Back, forward, or an address typed. */
  function moved(): void {
    const address = addressOf(location.hash);
    page.turnTo(address.view);
    if (address.session !== null && address.session !== workspace.version?.id)
      void workspace.attempt(() => workspace.open(address.session!));
  }

  function turnTheme(): void {
    theme = theme === 'salt' ? 'iron' : 'salt';
    localStorage.setItem('saltanvil.theme', theme);
  }

  /** Parts of the page, where each lies, and where in it the keyboard goes on. */
  const PARTS_OF_PAGE = [
    ['the strips', 'nav.tree', '[role=treeitem][tabindex="0"]'],
    ['the path', '.path', '.chosen button or [role=list] button'],
    ['the settings', '.editor, .panel', '[role=slider] or button'],
    ['the ledger', 'aside.ledger', 'aside'],
    ['the transport', 'footer.transport', 'button'],
  ] as const;
  function comeTo(within: string, target: string): boolean {
    const part = document.querySelector<HTMLElement>(within);
    const inside = target.split(' or ').map((each) => part?.querySelector<HTMLElement>(each));
    const goal = target === 'aside' ? part : inside.find(Boolean);
    if (!goal) return false;
    goal.focus();
    return true;
  }
  /** To the next part of the page that is there, or the one before. */
  function nextPart(way: 1 | -1): void {
    const count = PARTS_OF_PAGE.length;
    const here = PARTS_OF_PAGE.findIndex(([, within]) => document.activeElement?.closest(within));
    let at = here < 0 && way < 0 ? count : here;
    for (let tried = 0; tried < count; tried += 1) {
      at = (at + way + count) % count;
      if (comeTo(PARTS_OF_PAGE[at]![1], PARTS_OF_PAGE[at]![2])) return;
    }
  }

  /** A button that the keyboard has focused is pressed by Space; elsewhere Space plays, also where a button was clicked before. */
  const WALKS = ['Tab', 'ArrowLeft', 'ArrowRight', 'ArrowUp', 'ArrowDown', 'Home', 'End'];
  let last = '';
  let walked: EventTarget | null = null;
  const pressed = (target: HTMLElement) =>
    target === walked &&
    target.matches(':is(button, a, summary, [role=button], [role=tab], [role=radio], [role=checkbox])');

  function keys(event: KeyboardEvent): void {
    const target = event.target as HTMLElement;
    const key = keyOf(event);
    if (event.key === 'F6' && !dialogs.open) {
      event.preventDefault();
      return nextPart(event.shiftKey ? -1 : 1);
    }
    // A list of choices takes letters and Space, but none of the keys with Ctrl.
    const choosing = target.matches('select') && !event.ctrlKey && !event.metaKey;
    const typing = choosing || target.matches('textarea, input:not([type=checkbox], [type=radio])');
    if (typing || dialogs.open || !workspace.session || event.defaultPrevented) return;
    if (key === 'Space' && (pressed(target) || target.matches('input'))) return;
    if (key === 'Ctrl+C' && getSelection()?.toString()) return;
    const act = actFor(shortcuts.idFor(key));
    if (!act) return;
    event.preventDefault();
    // What is pressed while a step is on its way to the path is about that step.
    if (coming.step && aboutSteps(shortcuts.idFor(key))) void coming.settled.then(act);
    else void act();
  }

  /** What was chosen from a list with the pointer or with Enter is chosen: the keyboard goes back to what is worked on. */
  function chosen(event: Event): void {
    const list = event.target as HTMLElement;
    if (!list.matches('select') || dialogs.open || (last !== '' && last !== 'Enter')) return;
    list.blur();
    const worked =
      document.querySelector<HTMLElement>('.path .chosen button') ??
      document.querySelector<HTMLElement>('nav.tree [tabindex="0"]');
    worked?.focus({ preventScroll: true });
  }

  /** In Deliver these are about how it is delivered, elsewhere about the sound. */
  const undoTitle = (what: string, words: string | null | undefined, key: string) =>
    page.part === 'delivery'
      ? `${what}: settings of the delivery (${key})`
      : `${what}${words ? `: ${words}` : ''} (${key})`;

  function drop(event: DragEvent): void {
    dropping = false;
    if (!event.dataTransfer?.files.length) return;
    event.preventDefault();
    const files = [...event.dataTransfer.files];
    if (session && view === 'deliver') delivery.dropped = files;
    else if (session) void importFiles(workspace, files);
    else {
      dropped = files;
      page.dialog = 'new';
    }
  }
</script>

<svelte:window
  onbeforeunload={(event) => {
    if (workspace.jobs.sending) event.preventDefault();
  }}
  onkeydown={keys}
  onchange={chosen}
  onkeydowncapture={(event) => (last = event.key)}
  onpointerdowncapture={() => (last = '')}
  onfocusin={(event) => (walked = WALKS.includes(last) ? event.target : null)}
  onpopstate={moved}
  onhashchange={moved}
  ondragover={(event) => {
    if (!event.dataTransfer?.types.includes('Files')) return;
    event.preventDefault();
    dropping = true;
  }}
  ondragleave={(event) => !event.relatedTarget && (dropping = false)}
  ondrop={drop}
/>

<div class="app" class:dropping>
  <nav class="skip" aria-label="Skip to">
    {#each PARTS_OF_PAGE as [name, within, target] (name)}
      <button onclick={() => comeTo(within, target)}>Skip to {name}</button>
    {/each}
  </nav>
  <header>
    <h1 class="unseen">{titleOf(session?.name ?? null, view)}</h1>
    <svg viewBox="0 0 16 16" aria-hidden="true"
      ><path d="M1 4h4V3h10v2c-2 1-4 1.500-5 3v1l3 3v2H4v-2l2-3C3 9 1 7 1 4z" /></svg
    >
    <button
      class="session"
      title={session?.name}
      aria-haspopup="dialog"
      onclick={() => (page.dialog = 'sessions')}>{session?.name ?? 'Sessions'}</button
    >
    {#if session}<span class="soft">{session.tempo_bpm} bpm &middot; {session.rate_hz / 1000} kHz</span>{/if}
    <nav aria-label="Views">
      {#each VIEWS as name (name)}
        <button
          class="tab"
          class:on={view === name}
          aria-current={view === name ? 'page' : undefined}
          title="View (V)"
          onclick={() => page.show(name)}>{VIEW_NAMES[name]}</button
        >
      {/each}
    </nav>
    <span class="space"></span>
    <span class="soft saved">{workspace.saving ? 'Saving' : session ? 'Saved' : ''}</span>
    {#if workspace.listening.lost}<span
        class="lost"
        role="status"
        title="The page connects again by itself. Edits made meanwhile are kept and sent then."
        >Not connected{workspace.saving ? `, ${workspace.saving} to send` : ''}</span
      >{/if}
    <Latency />
    <button
      disabled={!workspace.version?.can_undo}
      title={undoTitle('Undo', workspace.version?.undo, 'Ctrl+Z')}
      onclick={() => workspace.history.undo(page.part)}>Undo</button
    >
    <button
      disabled={!workspace.version?.can_redo}
      title={undoTitle('Redo', workspace.version?.redo, 'Ctrl+Shift+Z')}
      onclick={() => workspace.history.redo(page.part)}>Redo</button
    >
    <button
      disabled={!session}
      aria-haspopup="dialog"
      title="All edits in words (H)"
      onclick={() => (page.dialog = 'history')}>History</button
    >
    <button title="Light or dark screen" onclick={turnTheme}>{theme === 'salt' ? 'Dark' : 'Light'}</button>
    <button
      aria-label="Help and shortcuts"
      title="Help and shortcuts (?)"
      onclick={() => (page.dialog = 'help')}>?</button
    >
  </header>
  {#if session}
    <Part />
  {:else}
    <div class="empty">
      {#if started}
        <p>Drop audio files here to begin a session with them.</p>
        <p class="line">
          <button class="button" data-act="new" onclick={() => (page.dialog = 'new')}>New session</button>
          <button class="button" onclick={() => (page.dialog = 'sessions')}>Sessions and demos</button>
        </p>
      {:else}<p class="soft">Opening ...</p>{/if}
    </div>
  {/if}
  <Transport compares={compares()} />
  <Jobs />
  <Announcer />
  {#if page.dialog === 'sessions'}<SessionMenu
      close={() => (page.dialog = null)}
      fresh={() => (page.dialog = 'new')}
    />{/if}
  {#if page.dialog === 'new'}<NewSession
      files={dropped}
      close={() => {
        page.dialog = null;
        dropped = [];
      }}
    />{/if}
  {#if page.dialog === 'sections'}<Sections close={() => (page.dialog = null)} />{/if}
  {#if page.dialog === 'stage gain'}<StageGain close={() => (page.dialog = null)} />{/if}
  {#if workspace.imported}<Imported
      view={workspace.imported}
      close={() => (workspace.imported = null)}
    />{/if}
  {#if automation.listed}<OverTimeList close={() => (automation.listed = false)} />{/if}
  {#if automation.menu}<OverTime address={automation.menu} close={() => (automation.menu = null)} />{/if}
  {#if automation.lever}<LeverTable id={automation.lever} close={() => (automation.lever = null)} />{/if}
  {#if workspace.aimOpen}<AimDialog close={() => (workspace.aimOpen = false)} />{/if}
  {#if workspace.blindOpen}<Blind close={() => (workspace.blindOpen = false)} />{/if}
  {#if page.dialog === 'history'}<History close={() => (page.dialog = null)} />{/if}
  {#if page.dialog === 'help'}<Help close={() => (page.dialog = null)} />{/if}
</div>

<style>
  .app {
    height: 100%;
    display: grid;
    grid-template-rows: minmax(40px, auto) minmax(0, 1fr) minmax(52px, auto);
  }
  /* Seen only by those who come to it with the keyboard. */
  .skip {
    position: absolute;
    z-index: 20;
    margin: 0;
    width: 1px;
    height: 1px;
    overflow: hidden;
  }
  .skip:focus-within {
    width: auto;
    height: auto;
    padding: 8px;
    background: var(--plate);
    border: 1px solid var(--edge);
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
    height: 2.5rem;
    border-width: 0 0 3px;
    color: var(--ink-soft);
  }
  .tab.on {
    border-bottom-color: var(--after);
    color: var(--ink);
    font-weight: 650;
  }
  @media (max-width: 47.5em) {
    header {
      flex-wrap: wrap;
      gap: 0 8px;
    }
    nav {
      margin-left: 0;
    }
    header > .soft {
      display: none;
    }
    header > button,
    .tab {
      padding: 0 4px;
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
