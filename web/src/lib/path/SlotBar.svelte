<script lang="ts">
  /** Slots 1 to 4 of what is chosen: a press switches, Shift and a press store; what differs is a table of its own. */
  import { untrack } from 'svelte';
  import { reserved } from '../controls/typing';
  import { format } from '../controls/value';
  import SlotTable from '../dialogs/SlotTable.svelte';
  import { SETTLE_MS } from '../state/measuring.svelte';
  import { SLOTS, slots, type SlotNumber } from '../state/slots.svelte';
  import { workspace } from '../state/workspace.svelte';

  let open = $state(false);
  const stored = $derived(slots.scope?.stored ?? { on: null, numbers: [] });
  const on = $derived(slots.loudness.find(({ slot }) => slot === stored.on));
  const changed = $derived(slots.compared?.changed ?? false);

  $effect(() => {
    void [workspace.version, slots.scope?.id];
    // Once it has settled: a drag makes a version at each of its steps.
    const timer = setTimeout(() => void slots.compare(), SETTLE_MS);
    return () => clearTimeout(timer);
  });
  // A new study means that an edit has settled.
  $effect(() => {
    void [workspace.measuring.study, slots.scope?.id, stored.numbers.join()];
    untrack(() => void slots.measure());
  });

  // While slots are in use their digits switch, also where a setting is focused; Enter types a value there.
  $effect(() => {
    for (const slot of SLOTS)
      if (stored.numbers.length) reserved.add(String(slot));
      else reserved.delete(String(slot));
    return () => reserved.clear();
  });

  function press(event: MouseEvent, slot: SlotNumber): void {
    if (event.shiftKey || !stored.numbers.includes(slot)) void slots.store(slot);
    else void slots.switchTo(slot);
  }
  const title = (slot: SlotNumber) =>
    stored.numbers.includes(slot)
      ? `Switch to slot ${slot} (${slot}); with Shift: store what you hear into it`
      : `Store what you hear into slot ${slot} (Shift+${slot})`;
</script>

<div class="slots" role="group" aria-label="Slots">
  <span class="soft">Slots</span>
  {#each SLOTS as slot (slot)}
    <button
      class="figure"
      class:empty={!stored.numbers.includes(slot)}
      aria-pressed={stored.on === slot}
      aria-label={stored.numbers.includes(slot) ? `Slot ${slot}` : `Slot ${slot}, empty`}
      data-slot={slot}
      title={title(slot)}
      onclick={(event) => press(event, slot)}
      >{slot}{#if stored.on === slot && changed}<i title="Changed since it was stored">*</i>{/if}</button
    >
  {/each}
  {#if stored.numbers.length > 1}
    <button class="button" aria-haspopup="dialog" data-act="compare slots" onclick={() => (open = true)}
      >Compare{slots.compared?.differences.length ? ` (${slots.compared.differences.length})` : ''}</button
    >
    {#if on}
      <span
        class="figure soft"
        data-figure="slot_gain"
        data-slot-gain={on.gain_db}
        title={on.refused ?? 'For listening only, so that all slots are equally loud; never in a file'}
        >{on.refused
          ? 'not matched'
          : workspace.listening.matched
            ? `matched ${format(on.gain_db, 'dB')}`
            : 'match off'}</span
      >
    {/if}
  {/if}
  <button
    class="button"
    aria-haspopup="dialog"
    data-act="blind"
    title="Compare before, after, slots or orders without knowing which is which (T)"
    onclick={() => (workspace.blindOpen = true)}>Blind</button
  >
  {#if open}<SlotTable close={() => (open = false)} />{/if}
</div>

<style>
  .slots {
    display: flex;
    align-items: center;
    gap: 4px;
    white-space: nowrap;
    font-size: 0.75rem;
  }
  button {
    height: 1.25rem;
    line-height: 1.125rem;
    font-size: 0.75rem;
    padding: 0 6px;
  }
  .figure[aria-pressed] {
    position: relative;
    width: 1.5rem;
    padding: 0;
    border: 1px solid var(--edge);
    background: var(--plate);
  }
  .figure[aria-pressed='true'] {
    background: var(--ink);
    color: var(--plate);
  }
  .empty {
    border-style: dashed;
    color: var(--ink-soft);
  }
  i {
    position: absolute;
    right: 2px;
    top: -3px;
    font-style: normal;
  }
</style>
