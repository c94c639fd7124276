<script lang="ts">
  /** Figures of one sound, or of two with the change between them: labels, units, order and digits come from the server. */
  import type { Figure, Figures } from '../api/client';
  import { levelText, numberText } from '../number';

  let {
    figures,
    of,
    against = null,
  }: { figures: Figure[]; of: Figures; against?: Figures | null } = $props();

  const value = (figures: Figures, figure: Figure) => figures[figure.name as keyof Figures];
  const change = (figure: Figure, before: Figures) => {
    const [from, to] = [value(before, figure), value(of, figure)];
    return from === null || to === null ? '--' : numberText(to - from, figure.digits, true);
  };
</script>

<table class="figures">
  {#if against}
    <thead><tr class="soft"><td></td><th>before</th><th>after</th><th>change</th></tr></thead>
  {/if}
  <tbody>
    {#each figures as figure (figure.name)}
      <tr data-figure={figure.name}>
        <th title="{figure.label}, {figure.unit}. {figure.help}">{figure.short}</th>
        {#if against}
          <td class="figure">{levelText(value(against, figure), figure.digits)}</td>
          <td class="figure">{levelText(value(of, figure), figure.digits)}</td>
          <td class="figure">{change(figure, against)}</td>
        {:else}
          <td class="figure">{levelText(value(of, figure), figure.digits)}</td>
          <td class="soft">{figure.unit}</td>
        {/if}
      </tr>
    {/each}
  </tbody>
</table>

<style>
  table {
    width: 100%;
    border-collapse: collapse;
  }
  th,
  td {
    height: var(--row, 1.75rem);
    padding: 0;
    text-align: right;
    font-weight: 400;
    border-bottom: 1px solid var(--line);
    white-space: nowrap;
  }
  td,
  thead th {
    padding-left: 6px;
  }
  th:first-child {
    text-align: left;
  }
  td.soft:last-child {
    text-align: left;
    width: 48px;
  }
  @media (max-width: 68.6875em) {
    th,
    td {
      height: var(--row-narrow, 1.125rem);
      line-height: var(--row-narrow, 1.125rem);
    }
  }
</style>
