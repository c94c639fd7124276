<script lang="ts">
  /** The resonances of a tamer as numbers: typed, switched, taken out. */
  import type { Resonance, Setting } from '../api/client';
  import { tamer } from '../state/tamer.svelte';
  import { parseSetting } from './value';

  let { setting }: { setting: Setting } = $props();

  const COLUMNS = [
    { name: 'frequency_hz', label: 'Hz', low: 20, high: 20000, digits: 0, factor: 1 },
    { name: 'width_oct', label: 'oct', low: 0.03, high: 2, digits: 2, factor: 1 },
    { name: 'share', label: '%', low: 0, high: 1, digits: 0, factor: 100 },
  ] as const;
  const NAMES = { frequency_hz: 'Frequency', width_oct: 'Width', share: 'Share of the amount' };

  const about = (one: Resonance) =>
    `Sticks out by ${one.height_db.toFixed(1)} dB${one.by_hand ? ', added by hand' : `, ${Math.round(one.time_share * 100)} % of the time; certain to ${Math.round((one.certainty ?? 1) * 100)} % that it is not the sound itself`}`;

  function type(at: number, column: (typeof COLUMNS)[number], text: string): void {
    const { name, label, low, high } = column;
    const read = parseSetting(text, { unit: label, minimum: low, maximum: high, off_at: null });
    if ('value' in read && typeof read.value === 'number') tamer.change(at, { [name]: read.value });
  }
</script>

<div class="resonances" title={setting.help} data-setting={setting.name}>
  {#if tamer.resonances.length}
    <table>
      <thead>
        <tr class="soft">
          <th><span class="unseen">Number</span></th>
          {#each COLUMNS as column (column.name)}<th>{column.label}</th>{/each}
          <th>On</th>
          <th><span class="unseen">Remove</span></th>
        </tr>
      </thead>
      <tbody>
        {#each tamer.resonances as one, at (at)}
          <tr class="figure" class:soft={!one.on}>
            <th scope="row" title={about(one)}>{at + 1}</th>
            {#each COLUMNS as column (column.name)}
              <td
                ><input
                  aria-label="{NAMES[column.name]} of resonance {at + 1}, {column.label}"
                  value={(one[column.name] * column.factor).toFixed(column.digits)}
                  onkeydown={(event) => event.stopPropagation()}
                  onchange={(event) => type(at, column, event.currentTarget.value)}
                /></td
              >
            {/each}
            <td
              ><input
                type="checkbox"
                aria-label="Resonance {at + 1} on"
                checked={one.on}
                onchange={() => tamer.change(at, { on: !one.on })}
              /></td
            >
            <td><button aria-label="Remove resonance {at + 1}" onclick={() => tamer.remove(at)}>x</button></td
            >
          </tr>
        {/each}
      </tbody>
    </table>
  {:else}
    <p class="soft">No resonances yet. Study a passage, or double-click in the picture.</p>
  {/if}
</div>

<style>
  .resonances {
    padding: 2px 0;
    max-height: 9rem;
    overflow-y: auto;
  }
  p {
    margin: 0;
    font-size: 0.75rem;
  }
  table {
    border-collapse: collapse;
    width: 100%;
    font-size: 0.75rem;
    line-height: 1rem;
  }
  th {
    font-weight: 400;
    text-align: left;
    white-space: nowrap;
    padding: 0 3px 0 0;
  }
  td {
    padding: 0 3px 0 0;
  }
  td:nth-child(2) input {
    width: 3.125rem;
  }
  td input:not([type]) {
    width: 2.25rem;
    height: 1.125rem;
    padding: 0 2px;
    text-align: right;
    background: var(--plate);
    border: 1px solid var(--edge);
  }
</style>
