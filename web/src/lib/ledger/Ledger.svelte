<script lang="ts">
  /** What the scope did to the passage: before, after, change; gain reduction; hints with their measure. */
  import { untrack } from 'svelte';
  import { format } from '../controls/value';
  import { contrast } from '../state/contrast.svelte';
  import { numberText } from '../number';
  import { nameOfScope } from '../state/scope';
  import { workspace } from '../state/workspace.svelte';
  import FigureTable from '../tables/FigureTable.svelte';
  import { alsoChosen } from '../state/together';
  import StripTable from './StripTable.svelte';

  let dismissed = $state<string[]>([]);
  const study = $derived(workspace.measuring.study);
  const ledger = $derived(study?.ledger ?? null);
  const what = $derived(nameOfScope(workspace));
  const wish = $derived(workspace.session?.keep_contrast_lu ?? 0);
  /** Of the main, over the whole song, whatever is looked at. */
  const overall = $derived(
    wish ? contrast.hints.map((hint) => ({ ...hint, text: `Contrast of the main: ${hint.text}` })) : [],
  );
  const hints = $derived(
    [...(ledger?.hints ?? []), ...overall].filter(
      (hint) => !dismissed.includes(`${workspace.selection.stepId} ${hint.name}`),
    ),
  );

  $effect(() => {
    void workspace.version?.revision;
    if (!wish) return;
    untrack(() => contrast.soon(true));
    return () => contrast.stop();
  });
  const tallest = $derived(Math.max(0.05, ...(ledger?.reduction?.histogram ?? [0])));

  /** A share that is not nothing never reads so. */
  const shareText = (percent: number) =>
    percent > 0 && percent < 0.5 ? 'under 1 %' : `${numberText(percent, 0)} %`;

  function factText({ name, value, unit }: { name: string; value: number; unit: string }): string {
    if (unit === '%') return shareText(value);
    const text = numberText(value, name === 'samples_clipped' ? 0 : 1);
    return unit ? `${text} ${unit}` : text;
  }

  function show(setting: string): void {
    const rule = document.querySelector<HTMLElement>(`[data-setting="${setting}"]`);
    rule?.scrollIntoView({ block: 'nearest' });
    rule?.focus();
  }
</script>

<!-- It scrolls, and may hold nothing else that takes the focus. -->
<!-- svelte-ignore a11y_no_noninteractive_tabindex -->
<aside
  class="ledger"
  tabindex="0"
  aria-label="Ledger"
  aria-busy={workspace.measuring.stale}
  data-revision={study?.revision ?? ''}
>
  <h2>Ledger <span class="soft">{what}, {workspace.listening.passage.name}</span></h2>
  {#if ledger}
    <div class="table">
      <FigureTable
        figures={workspace.described.figuresIn('ledger')}
        of={ledger.after}
        against={ledger.before}
      />
    </div>
    {#if alsoChosen(workspace.selection).length}<StripTable />{/if}
    {#if ledger.reduction}
      <div class="reduction">
        <h3>{ledger.reduction.rises ? 'Gain added' : 'Gain reduction'}</h3>
        <div class="histogram" role="img" aria-label="Share of the time at each decibel of reduction">
          {#each ledger.reduction.histogram as share, db (db)}
            <span>
              <i
                class:none={db === 0}
                style:height="{(share / tallest) * 56}px"
                title="{numberText(share * 100, 0)} % of the time"
              ></i>
              <em class="figure soft">{db}{db === 8 ? '+' : ''}</em>
            </span>
          {/each}
        </div>
        <dl>
          <dt>max</dt>
          <dd class="figure" data-figure="largest_db">{numberText(ledger.reduction.largest_db)} dB</dd>
          <dt>mean while active</dt>
          <dd class="figure">{numberText(ledger.reduction.mean_db)} dB</dd>
          <dt title="Share of the time with more than 0.1 dB">share of time</dt>
          <dd class="figure" data-figure="active_share">{shareText(ledger.reduction.share * 100)}</dd>
        </dl>
      </div>
    {/if}
    {#if ledger.facts.length}
      <dl class="facts">
        {#each ledger.facts as fact (fact.name)}
          <dt>{fact.label}</dt>
          <dd class="figure" data-figure={fact.name}>
            {factText(fact)}
          </dd>
        {/each}
      </dl>
    {/if}
    {#each study?.moving ?? [] as moved (`${moved.of} ${moved.id} ${moved.name}`)}
      <p class="soft" data-figure="moving">{moved.text}.</p>
    {/each}
    <dl class="matched">
      <dt title="Gain that brings before to the loudness of after, for listening only">matched gain</dt>
      <dd class="figure" data-figure="matched_db">
        {ledger.matched_refused ? 'off' : format(ledger.matched_db, 'dB')}
      </dd>
    </dl>
    {#if ledger.matched_refused}<p class="soft" data-figure="matched_refused">
        Not matched: {ledger.matched_refused.replace(/: played unmatched$/, '')}.
      </p>{/if}
    {#each hints as hint (hint.name)}
      <p class="hint" data-hint={hint.name}>
        {hint.text}
        {#if hint.setting}<button class="link" onclick={() => show(hint.setting!)}>Show</button>{/if}
        <button
          class="link"
          aria-label="Dismiss this hint"
          onclick={() => dismissed.push(`${workspace.selection.stepId} ${hint.name}`)}
        >
          Dismiss
        </button>
      </p>
    {/each}
  {:else}
    <p class="soft">Measuring the passage ...</p>
  {/if}
</aside>

<style>
  .ledger {
    height: 100%;
    overflow: auto;
    padding: 8px 12px;
  }
  h2 {
    white-space: nowrap;
    overflow: hidden;
    text-overflow: ellipsis;
  }
  h2 span {
    font-weight: 400;
  }
  .reduction {
    margin-top: 16px;
  }
  .histogram {
    display: grid;
    grid-template-columns: repeat(9, 1fr);
    gap: 3px;
    height: 78px;
    margin: 4px 0 6px;
  }
  .histogram span {
    display: flex;
    flex-direction: column;
    justify-content: flex-end;
    align-items: center;
  }
  .histogram i {
    width: 100%;
    border: 1px solid var(--taken);
    background: repeating-linear-gradient(135deg, transparent 0 2px, var(--taken) 2px 3px);
    min-height: 1px;
  }
  .histogram .none {
    border-color: var(--ink-soft);
    background: none;
  }
  em {
    font-style: normal;
    font-size: 0.6875rem;
    line-height: 1.125rem;
  }
  dl {
    display: grid;
    grid-template-columns: 1fr auto;
    margin: 0;
  }
  dt,
  dd {
    margin: 0;
    height: 1.5rem;
    line-height: 1.5rem;
    white-space: nowrap;
    border-bottom: 1px solid var(--line);
  }
  .hint {
    margin: 10px 0 0;
    padding-left: 8px;
    border-left: 3px solid var(--taken);
    font-size: 0.75rem;
    line-height: 1.0625rem;
  }
  .link {
    border: 0;
    padding: 0 0 0 4px;
    text-decoration: underline;
    color: var(--ink-soft);
    line-height: 1.0625rem;
  }
  @media (max-width: 68.6875em) {
    .ledger {
      display: flex;
      gap: 24px;
      align-items: flex-start;
      padding: 4px 12px;
    }
    .ledger h2 {
      width: 120px;
      white-space: normal;
      flex: none;
    }
    .table {
      width: 300px;
      flex: none;
    }
    .reduction {
      margin: 0;
      width: 200px;
      flex: none;
    }
    .histogram {
      display: none;
    }
    .matched,
    .hint {
      flex: 0 0 220px;
      margin: 0;
    }
  }
  dd {
    text-align: right;
  }
</style>
