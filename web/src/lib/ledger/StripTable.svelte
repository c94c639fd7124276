<script lang="ts">
  /** The strips that are chosen together, side by side: how loud each leaves its path, and what the path changed. */
  import { untrack } from 'svelte';
  import type { Figure, Figures } from '../api/client';
  import { levelText, numberText } from '../number';
  import { sideBySide } from '../state/side-by-side.svelte';
  import { chosenStrips } from '../state/strips';
  import { workspace } from '../state/workspace.svelte';

  const CHANGED = 'integrated_lufs';
  const SHOWN = [CHANGED, 'true_peak_dbtp'];
  const strips = $derived(chosenStrips(workspace));
  const figures = $derived(
    workspace.described.figuresIn('ledger').filter((figure) => SHOWN.includes(figure.name)),
  );
  const value = (of: Figures, figure: Figure) => of[figure.name as keyof Figures];

  $effect(() => {
    void workspace.version?.revision;
    void workspace.listening.passage;
    void strips.map((strip) => strip.id).join();
    untrack(() => sideBySide.soon());
  });
  $effect(() => () => sideBySide.stop());
</script>

<h3>Chosen strips</h3>
<table data-table="chosen strips" aria-busy={sideBySide.stale}>
  <thead>
    <tr class="soft">
      <td></td>
      {#each figures as figure (figure.name)}
        <th title="{figure.label} after the path, {figure.unit}. {figure.help}">{figure.unit}</th>
        {#if figure.name === CHANGED}<th title="{figure.label}: what the path changed">change</th>{/if}
      {/each}
    </tr>
  </thead>
  <tbody>
    {#each strips as strip (strip.id)}
      {@const ledger = sideBySide.ledgers[strip.id]}
      <tr data-row={strip.name}>
        <th title={strip.name}>{strip.name}</th>
        {#if ledger}
          {#each figures as figure (figure.name)}
            {@const [before, after] = [value(ledger.before, figure), value(ledger.after, figure)]}
            <td class="figure" data-figure={figure.name}>{levelText(after, figure.digits)}</td>
            {#if figure.name === CHANGED}
              <td class="figure" data-figure="{figure.name} change"
                >{after === null || before === null
                  ? '--'
                  : numberText(after - before, figure.digits, true)}</td
              >
            {/if}
          {/each}
        {:else}<td colspan="3" class="soft">Measuring ...</td>{/if}
      </tr>
    {/each}
  </tbody>
</table>

<style>
  h3 {
    margin-top: 16px;
  }
  table {
    width: 100%;
    table-layout: fixed;
    border-collapse: collapse;
  }
  th,
  td {
    height: 1.375rem;
    padding: 0 0 0 4px;
    font-weight: 400;
    font-size: 0.75rem;
    text-align: right;
    white-space: nowrap;
    border-bottom: 1px solid var(--line);
  }
  tbody th,
  thead td {
    width: 32%;
    padding: 0;
    text-align: left;
    overflow: hidden;
    text-overflow: ellipsis;
  }
</style>
