<script lang="ts">
  /** Several strips side by side: the loudness of each section after, and the contrast before and after. */
  import type { ContrastAnswer, SectionContrast } from '../api/client';
  import { numberText } from '../number';

  let { rows, sections }: { rows: ContrastAnswer['rows']; sections: SectionContrast[] } = $props();
  const sectionOf = (row: ContrastAnswer['rows'][number], id: string) =>
    row.contrast.sections.find((section) => section.section_id === id);
</script>

<table data-table="strips">
  <thead>
    <tr class="soft">
      <th>After, LUFS <span>(change)</span></th>
      {#each sections as section (section.section_id)}<th title={section.name}>{section.name}</th>{/each}
      <th>Before, LU</th><th>After, LU</th>
    </tr>
  </thead>
  <tbody>
    {#each rows as row (row.name)}
      <tr data-row={row.name}>
        <th>{row.name}</th>
        {#each sections as section (section.section_id)}
          {@const own = sectionOf(row, section.section_id)}
          <td class="figure"
            >{numberText(own?.after.integrated_lufs)}
            <span class="soft">({own ? numberText(own.change_lu, 1, true) : '--'})</span></td
          >
        {/each}
        <td class="figure">{numberText(row.contrast.before_lu)}</td>
        <td class="figure">{numberText(row.contrast.after_lu)}</td>
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
</style>
