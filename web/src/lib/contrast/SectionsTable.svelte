<script lang="ts">
  /** One scope, section by section: what each lost, its steps, and its figures before and after. */
  import type { ContrastAnswer, SectionContrast } from '../api/client';
  import { numberText } from '../number';
  import { workspace } from '../state/workspace.svelte';

  let { shown }: { shown: ContrastAnswer['rows'][number]['contrast'] } = $props();
  /** The figure whose change is shown too. */
  const LOUDNESS = 'integrated_lufs';
  const figures = $derived(workspace.described.figuresIn('sections'));
  const steps = $derived(new Map(shown.steps.map((step) => [step.to_id, step])));

  function listen({ name, start_s, end_s }: SectionContrast): void {
    workspace.listening.setPassage({ name, start_s, end_s });
  }
</script>

<table data-table="sections">
  <thead>
    <tr class="soft">
      <th rowspan="2">Section</th>
      <th rowspan="2" title="Loudness lost against the section that kept most: make-up gain does not count"
        >Contrast lost, LU</th
      >
      <th colspan="2" title="Louder than the section before by so much">Step, LU</th>
      {#each figures as figure (figure.name)}
        <th colspan={figure.name === LOUDNESS ? 3 : 2} title={figure.help}>{figure.short}, {figure.unit}</th>
      {/each}
      <th colspan="2" title="Gain reduction of the step that works hardest">GR, dB</th>
    </tr>
    <tr class="soft">
      <th>before</th><th>after</th>
      {#each figures as figure (figure.name)}
        <th>before</th><th>after</th>{#if figure.name === LOUDNESS}<th>change</th>{/if}
      {/each}
      <th>max</th><th>mean</th>
    </tr>
  </thead>
  <tbody>
    {#each shown.sections as section (section.section_id)}
      {@const step = steps.get(section.section_id)}
      <tr data-row={section.name}>
        <th
          ><button
            class="link"
            title="Listen to {section.name}: make it the passage"
            onclick={() => listen(section)}>{section.name}</button
          ></th
        >
        <td class="figure" data-figure="lost">{numberText(section.lost_lu)}</td>
        <td class="figure">{step ? numberText(step.before_lu, 1, true) : ''}</td>
        <td class="figure" data-figure="step">{step ? numberText(step.after_lu, 1, true) : ''}</td>
        {#each figures as figure (figure.name)}
          {@const name = figure.name as keyof typeof section.before}
          <td class="figure">{numberText(section.before[name], figure.digits)}</td>
          <td class="figure" data-figure="after {figure.name}"
            >{numberText(section.after[name], figure.digits)}</td
          >
          {#if figure.name === LOUDNESS}<td class="figure" data-figure="change"
              >{numberText(section.change_lu, 1, true)}</td
            >{/if}
        {/each}
        <td class="figure">{numberText(section.reduction?.largest_db)}</td>
        <td class="figure">{numberText(section.reduction?.mean_db)}</td>
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
    height: 1.5rem;
    padding: 0 0 0 8px;
    font-weight: 400;
    text-align: right;
    white-space: nowrap;
    border-bottom: 1px solid var(--line);
  }
  th:first-child {
    text-align: left;
    padding-left: 0;
  }
  thead tr:last-child th:first-child {
    text-align: right;
    padding-left: 8px;
  }
  .link {
    border: 0;
    padding: 0;
    min-height: 1.5rem;
    text-decoration: underline;
    text-decoration-color: var(--line);
  }
</style>
