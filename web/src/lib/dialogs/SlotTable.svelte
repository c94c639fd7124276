<script lang="ts">
  /** What differs between the slots: a row for each setting, a column for each slot; a press takes one value over. */
  import { numberText } from '../number';
  import { formatSetting } from '../controls/value';
  import { nameOfScope } from '../state/scope';
  import { slots, type SlotNumber } from '../state/slots.svelte';
  import { workspace } from '../state/workspace.svelte';
  import type { Setting, SettingValue, SlotDifference } from '../api/client';
  import Dialog from './Dialog.svelte';

  let { close }: { close: () => void } = $props();
  const compared = $derived(slots.compared);
  /** As it is now: what differs is asked for only once an edit has settled. */
  const on = $derived(slots.scope?.stored.on ?? null);
  const numbers = $derived((compared?.slots ?? []) as SlotNumber[]);
  const refused = $derived(slots.loudness.filter((one) => one.refused));

  function described(row: SlotDifference): Setting | undefined {
    if (!row.of || !row.name) return undefined;
    const parts = workspace.described.settings[row.of]?.find((setting) => setting.name === row.name);
    const step = row.of === 'step' ? workspace.stepById(row.id!) : null;
    return (
      parts ??
      (step ? workspace.described.processor(step.kind)?.settings : [])?.find((s) => s.name === row.name)
    );
  }
  function shown(row: SlotDifference, value: SettingValue | null | undefined): string {
    if (value === null || value === undefined) return 'not there';
    if (typeof value === 'boolean') return value ? 'on' : 'off';
    const setting = described(row);
    if (typeof value === 'number') return setting ? formatSetting(value, setting) : String(value);
    return Array.isArray(value) ? value.map(String).join(', ') : value;
  }
  const valueOf = (row: SlotDifference, slot: SlotNumber) => row.values[String(slot)];
</script>

<Dialog title="Slots of {nameOfScope(workspace)}" {close} width={40}>
  <p class="soft">
    Only what differs. Press a value to take it over into slot {on ?? 'that is heard'}.
  </p>
  <table>
    <thead>
      <tr>
        <th scope="col">Setting</th>
        {#each numbers as slot (slot)}
          <th scope="col">
            <button
              class="button"
              aria-pressed={on === slot}
              aria-label="Listen to slot {slot}"
              onclick={() => slots.switchTo(slot)}>{slot}</button
            >
            <button
              class="act"
              aria-label="Clear slot {slot}"
              title="Clear slot {slot}; what you hear stays"
              onclick={() => slots.clear(slot)}>x</button
            >
          </th>
        {/each}
      </tr>
    </thead>
    <tbody>
      <tr>
        <th scope="row" class="soft">Loudness, LUFS</th>
        {#each numbers as slot (slot)}
          {@const lufs = slots.loudness.find((one) => one.slot === slot)?.loudness_lufs}
          <td class="figure soft">{numberText(lufs)}</td>
        {/each}
      </tr>
      {#each compared?.differences ?? [] as row (`${row.label} ${row.id} ${row.name}`)}
        <tr data-row={row.label}>
          <th scope="row">{row.label}</th>
          {#each numbers as slot (slot)}
            {@const value = valueOf(row, slot)}
            <td class="figure" class:on={slot === on}>
              {#if row.of && row.id && row.name && value !== null && value !== undefined && slot !== on}
                <button
                  class="value"
                  title="Take over"
                  aria-label="Take over {row.label} {shown(row, value)} from slot {slot}"
                  onclick={() => slots.take(row.of!, row.id!, row.name!, value)}>{shown(row, value)}</button
                >
              {:else}{shown(row, value)}{/if}
            </td>
          {/each}
        </tr>
      {/each}
    </tbody>
  </table>
  {#if !compared?.differences.length}<p>All slots are the same.</p>{/if}
  {#each refused as one (one.slot)}<p class="soft">Slot {one.slot}: {one.refused}</p>{/each}
</Dialog>

<style>
  p {
    margin: 8px 0;
  }
  table {
    width: 100%;
    border-collapse: collapse;
  }
  th,
  td {
    padding: 2px 8px;
    text-align: right;
    border-bottom: 1px solid var(--line);
    font-weight: 400;
  }
  th:first-child {
    text-align: left;
  }
  .on {
    font-weight: 650;
  }
  .value {
    min-height: 1.5rem;
    padding: 0 6px;
    border: 1px solid var(--edge);
    background: var(--plate);
  }
</style>
