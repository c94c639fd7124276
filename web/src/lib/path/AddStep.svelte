<script lang="ts">
  /** A searchable list of what can be put on a path: processors, ready-made splits, and paths of one's own. */
  import Dialog from '../dialogs/Dialog.svelte';
  import { api, type PathStart, type Step } from '../api/client';
  import { divide } from '../state/splits';
  import { addStep, pathInsertion, takeSteps } from '../state/steps';
  import { workspace } from '../state/workspace.svelte';
  import { searched } from './search';

  let { close, bands }: { close: () => void; bands: number } = $props();
  let search = $state('');
  let at = $state(0);
  let own = $state.raw<PathStart[]>([]);

  void workspace.attempt(async () => {
    own = (await api.presets('path', workspace.version?.id ?? null)).map((preset) => ({
      name: preset.name,
      listen: 'Your own.',
      path: preset.settings as { steps: Step[] },
    }));
  });

  const SPLITS = [
    ['copies', 'Parallel', 'Dry beside wet, with one blend control.', ['dry/wet', 'copies', 'blend']],
    ['bands', 'Bands', 'Each band with steps of its own.', ['multiband', 'crossover', 'band split']],
    ['mid/side', 'Mid/side', 'The middle and the sides apart.', ['m/s', 'ms', 'width']],
    ['left/right', 'Left/right', 'Each side by itself.', ['l/r', 'dual mono']],
  ] as const;
  interface Item {
    name: string;
    what: string;
    words: readonly string[];
    take: () => void;
  }
  const items = $derived<Item[]>([
    ...workspace.described.processors
      .filter((processor) => processor.kind !== 'split')
      .map((processor) => ({
        name: processor.label,
        what: processor.summary,
        words: processor.aliases,
        take: () => void addStep(workspace, processor.kind),
      })),
    ...[...workspace.described.pathStarts, ...own].map((start) => ({
      name: start.name,
      what: `Ready-made: ${start.listen}`,
      words: start.words ?? [],
      take: () => void takeSteps(workspace, pathInsertion(workspace, start.path)),
    })),
    ...SPLITS.map(([by, name, what, words]) => ({
      name,
      what,
      words,
      take: () => {
        // A split by itself: what is chosen stays where it is.
        void divide(workspace, by, bands, []);
      },
    })),
  ]);
  const result = $derived(searched(items, search));

  function choose(index: number): void {
    const item = result[index];
    if (!item) return;
    close();
    item.take();
  }
  function keys(event: KeyboardEvent): void {
    event.stopPropagation();
    if (event.key === 'Escape') close();
    else if (event.key === 'Enter') choose(at);
    else if (event.key === 'ArrowDown') at = Math.min(at + 1, result.length - 1);
    else if (event.key === 'ArrowUp') at = Math.max(at - 1, 0);
    else return;
    event.preventDefault();
  }
</script>

<Dialog title="Add a step" {close} untitled>
  <input
    placeholder="Search"
    aria-label="Search the steps"
    bind:value={search}
    oninput={() => (at = 0)}
    onkeydown={keys}
    data-first
  />
  <ul>
    {#each result as item, index (index)}
      <li>
        <button class:at={index === at} onclick={() => choose(index)}>
          <b>{item.name}</b><span class="soft">{item.what}</span>
        </button>
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
  li button {
    display: flex;
    flex-direction: column;
    width: 100%;
    text-align: left;
    padding: 4px 8px;
    border: 0;
  }
  .at,
  li button:hover {
    background: var(--ground);
  }
  span {
    font-size: 0.75rem;
    line-height: 1rem;
  }
  .none {
    padding: 4px 8px;
  }
</style>
