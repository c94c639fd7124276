<script lang="ts">
  /** Blind comparison: choose what, listen by letters with the page covered, answer, and read the result. */
  import { tick } from 'svelte';
  import Segments from '../controls/Segments.svelte';
  import { blind } from '../state/blind.svelte';
  import { nameOfScope } from '../state/scope';
  import { workspace } from '../state/workspace.svelte';
  import Dialog from './Dialog.svelte';

  let { close }: { close: () => void } = $props();
  blind.prepare();

  const view = $derived(blind.view);
  const result = $derived(view?.result ?? null);
  const preferred = $derived(blind.preferred);
  const silent = $derived(workspace.measuring.study?.ledger.hints.some((hint) => hint.name === 'silent'));
  const names: Record<string, string> = { '1': 'First', '2': 'Second' };
  const named = (letter: string) => (view?.mode === 'hear' ? (names[letter] ?? letter) : letter);
  const known = (letter: string) =>
    view?.mode === 'hear' && letter !== 'X' ? view.candidates[Number(letter) - 1] : '';
  const when = (seconds: number) =>
    new Date(seconds * 1000).toLocaleString(undefined, { dateStyle: 'short', timeStyle: 'short' });

  // The keys are those of what is shown now.
  $effect(() => {
    void blind.running;
    void tick().then(() => document.querySelector<HTMLElement>('dialog [data-first]')?.focus());
  });

  function leave(): void {
    if (blind.running) void blind.end();
    else close();
  }

  function keys(event: KeyboardEvent): void {
    if (!view || !blind.running || event.ctrlKey || event.metaKey || event.altKey) return;
    const onButton = (event.target as HTMLElement).matches('button');
    const key = event.key.toUpperCase();
    const number = view.mode === 'prefer' ? view.letters[Number(key) - 1] : undefined;
    if (view.letters.includes(key)) blind.hear(key);
    else if (number) blind.hear(number);
    else if (event.key === ' ') workspace.listening.toggle();
    else if (event.key === 'Enter' && !onButton && view.mode === 'prefer') void blind.answer(blind.letter);
    else if (event.key === 'ArrowLeft' && view.mode === 'hear') void blind.answer('1');
    else if (event.key === 'ArrowRight' && view.mode === 'hear') void blind.answer('2');
    else return;
    event.preventDefault();
  }
  const unfocused = (event: MouseEvent & { currentTarget: HTMLElement }) =>
    event.detail && event.currentTarget.blur();
</script>

<svelte:window onkeydown={keys} />
<Dialog
  title="Compare blind: {view ? view.of : nameOfScope(workspace)}"
  close={leave}
  width={38}
  cover={blind.running}
>
  {#if view && blind.running}
    <p class="figure" role="status" data-figure="round">Round {view.round} of {view.planned}</p>
    <p class="soft" tabindex="-1" data-first>
      {#if view.mode === 'prefer'}
        Listen with {view.letters.join(', ')}; Enter prefers the one you hear. {view.candidates.join(', ')} are
        behind the letters in an order that is drawn anew each round.
      {:else}
        First is {view.candidates[0]}, second is {view.candidates[1]}. Listen with X, 1 and 2, and say which
        of the two X is: left arrow the first, right arrow the second.
      {/if}
      All are equally loud. Space plays and stops. Escape ends it and keeps what you have answered.
    </p>
    <div class="letters" role="group" aria-label="Listen to">
      {#each view.letters as letter (letter)}
        <button
          class="letter"
          aria-pressed={blind.letter === letter}
          data-letter={letter}
          onclick={(event) => {
            blind.hear(letter);
            unfocused(event);
          }}><b>{named(letter)}</b><span class="soft">{known(letter)}</span></button
        >
      {/each}
    </div>
    <div class="answers" role="group" aria-label="Answer">
      {#each view.answers as letter (letter)}
        <button
          class="button"
          data-answer={letter}
          onclick={(event) => {
            void blind.answer(letter);
            unfocused(event);
          }}>{view.mode === 'prefer' ? `Prefer ${letter}` : `X is the ${named(letter).toLowerCase()}`}</button
        >
      {/each}
      <span class="space"></span>
      <button class="button" onclick={() => workspace.listening.toggle()}
        >{workspace.listening.playing ? 'Stop' : 'Play'}</button
      >
      <button class="button" data-act="break off" onclick={() => blind.end()}>End</button>
    </div>
    {#each view.unmatched as text (text)}<p class="soft">Not matched: {text}.</p>{/each}
  {:else}
    {#if result}
      <section aria-label="Result" data-rounds={result.rounds.length}>
        <p class="verdict" role="status">{result.verdict}</p>
        {#if preferred}<p>
            <button
              class="button"
              data-act="use preferred"
              onclick={() => void blind.usePreferred().then(close)}
              >Use the preferred: {preferred.name}</button
            >
          </p>{/if}
        {#if result.rounds.length}
          <table>
            <thead
              ><tr class="soft"
                ><th>Round</th><th>{result.mode === 'hear' ? 'X was' : 'Order'}</th><th
                  >{result.mode === 'hear' ? 'You said' : 'You preferred'}</th
                ></tr
              ></thead
            >
            <tbody>
              {#each result.rounds as round, number (number)}
                <tr>
                  <td class="figure">{number + 1}</td>
                  <td>{round.order.map((place) => result.candidates[place]).join(', ')}</td>
                  <td>{result.candidates[round.chosen]}</td>
                </tr>
              {/each}
            </tbody>
          </table>
        {/if}
      </section>
    {/if}
    <fieldset>
      <legend class="soft">What to compare, over {workspace.listening.passage.name}</legend>
      {#each blind.choices as { name } (name)}
        <label><input type="checkbox" value={name} bind:group={blind.picked} /> {name}</label>
      {/each}
    </fieldset>
    <div class="row">
      <Segments
        label="Question"
        options={[
          ['prefer', 'Which do I prefer', 'Letters in an order drawn anew each round'],
          ['hear', 'Can I hear it', 'Is X the first or the second of two'],
        ]}
        value={blind.mode}
        change={(mode) => blind.setMode(mode)}
      />
      <label class="rounds"
        >Rounds <input
          class="figure"
          type="number"
          min="1"
          max="50"
          aria-label="Rounds"
          bind:value={blind.rounds}
        /></label
      >
      <span class="space"></span>
      <button
        class="button"
        data-first
        data-act="start blind"
        disabled={Boolean(blind.refused) || blind.measuring}
        onclick={() => blind.start()}>{blind.measuring ? 'Measuring ...' : 'Start'}</button
      >
    </div>
    {#if silent}<p class="silent" role="alert">
        Nothing sounds here in this passage: there is nothing to compare.
      </p>{/if}
    {#if blind.refused}<p class="soft">{blind.refused}</p>{/if}
    {#each blind.setAside as text (text)}<p class="soft" data-set-aside>{text}.</p>{/each}
    {#if blind.results.length}
      <h3>Results of this session</h3>
      <div class="kept">
        <table data-table="results">
          <thead><tr class="soft"><th>Date</th><th>What</th><th>Passage</th><th>Result</th></tr></thead>
          <tbody>
            {#each blind.results as one (one.made_at)}
              <tr>
                <td class="figure">{when(one.made_at ?? 0)}</td>
                <td>{one.of}</td>
                <td>{one.passage}</td>
                <td class="wrap">{one.verdict}</td>
              </tr>
            {/each}
          </tbody>
        </table>
      </div>
      <a class="button" href="/api/sessions/{workspace.version?.id}/blind/csv" download="comparisons.csv"
        >Write CSV</a
      >
    {/if}
  {/if}
</Dialog>

<style>
  .letters,
  .answers,
  .row {
    display: flex;
    align-items: center;
    gap: 8px;
    margin: 12px 0;
    flex-wrap: wrap;
  }
  .letter {
    flex: 1;
    height: 5rem;
    border: 1px solid var(--edge);
    background: var(--plate);
    display: flex;
    flex-direction: column;
    align-items: center;
    justify-content: center;
    gap: 4px;
    font-size: 1.125rem;
  }
  .letter span {
    font-size: 0.75rem;
    min-height: 1rem;
  }
  .letter[aria-pressed='true'] {
    background: var(--ink);
    color: var(--plate);
  }
  .letter[aria-pressed='true'] span {
    color: var(--plate);
  }
  [data-first]:focus {
    outline: none;
  }
  button[data-first]:focus-visible {
    outline: 2px solid var(--after);
  }
  .space {
    flex: 1;
  }
  fieldset {
    border: 0;
    margin: 0;
    padding: 0;
    display: flex;
    flex-wrap: wrap;
    gap: 4px 16px;
  }
  legend {
    padding: 0 0 4px;
  }
  .rounds input {
    width: 4rem;
    height: 1.75rem;
    color: var(--ink);
    background: var(--plate);
    border: 1px solid var(--edge);
  }
  .silent {
    border-left: 3px solid var(--taken);
    padding-left: 8px;
  }
  .verdict {
    font-weight: 600;
    margin: 4px 0 8px;
  }
  table {
    width: 100%;
    border-collapse: collapse;
    margin-bottom: 12px;
  }
  th,
  td {
    text-align: left;
    font-weight: 400;
    height: 1.5rem;
    padding-right: 12px;
    border-bottom: 1px solid var(--line);
    white-space: nowrap;
  }
  .wrap {
    white-space: normal;
  }
  .kept {
    max-height: 12rem;
    overflow: auto;
    margin-bottom: 8px;
  }
</style>
