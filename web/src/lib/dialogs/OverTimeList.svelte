<script lang="ts">
  /** Everything that moves over time or is under a lever, and what can: shown in lanes, turned off, edited. */
  import { automation } from '../state/automation.svelte';
  import { keyOf, type Address } from '../state/course';
  import { choices, newLever } from '../state/levers';
  import { workspace } from '../state/workspace.svelte';
  import Dialog from './Dialog.svelte';

  let { close }: { close: () => void } = $props();
  const rows = $derived(workspace.version?.moving ?? []);
  const strip = $derived(workspace.selection.strip);

  /** What of the chosen strip can move and does not yet: values, and switches. */
  const free = $derived.by(() => {
    if (!strip) return [];
    const values = choices(workspace, [strip]).map(({ address, owner, label }) => ({
      address,
      text: `${owner}: ${label}`,
    }));
    const switches: { address: Address; text: string }[] = [
      { address: { of: 'strip', id: strip.id, name: 'mute' }, text: `${strip.name}: Mute` },
      ...strip.sends.map((send) => ({
        address: { of: 'send', id: send.id, name: 'mute' } as Address,
        text: `${strip.name} to ${workspace.stripNamed(send.target)}: Mute`,
      })),
      ...[...steps(strip.path.steps)].map((step) => ({
        address: { of: 'step', id: step.id, name: 'bypass' } as Address,
        text: `${strip.name}, ${workspace.described.processor(step.kind)?.label.toLowerCase() ?? step.kind}: Bypass`,
      })),
      ...[...steps(strip.path.steps)].flatMap((step) =>
        (step.lanes ?? []).flatMap((lane) =>
          (['mute', 'bypass'] as const).map((name) => ({
            address: { of: 'lane', id: lane.id, name } as Address,
            text: `${strip.name}, lane ${lane.name}: ${name === 'mute' ? 'Mute' : 'Bypass'}`,
          })),
        ),
      ),
    ];
    return [...values, ...switches].filter(({ address }) => !automation.of(address));
  });
  function* steps(of: NonNullable<typeof strip>['path']['steps']): Generator<(typeof of)[number]> {
    for (const step of of) {
      yield step;
      for (const lane of step.lanes ?? []) yield* steps(lane.path.steps);
    }
  }
  function toggle(address: Address): void {
    if (automation.isOpen(address)) automation.close(address);
    else void automation.draw(address);
  }
</script>

<Dialog title="Over time" {close} width={44}>
  <div class="line">
    <label
      >Show over time <select
        data-first
        aria-label="Show over time"
        value=""
        onchange={(event) => {
          const choice = free[Number(event.currentTarget.value)];
          if (choice) void automation.draw(choice.address);
          close();
        }}
      >
        <option value="" disabled>a setting of {strip?.name ?? 'the strip'}</option>
        {#each free as choice, index (keyOf(choice.address))}<option value={index}>{choice.text}</option
          >{/each}
      </select></label
    >
    <span class="space"></span>
    {#if strip}
      <button
        class="button"
        aria-pressed={strip.envelopes_off}
        title="Nothing on this strip moves over time"
        onclick={() => workspace.move('strip', strip.id, { envelopes_off: !strip.envelopes_off })}
        >{strip.name}: off</button
      >
    {/if}
    <button
      class="button"
      data-act="session lever"
      title="One control over settings of any strips"
      onclick={async () => {
        const id = await newLever(workspace, 'Lever', true);
        close();
        automation.lever = id;
      }}>+ Lever for all strips</button
    >
    {#if workspace.session}
      <button
        class="button"
        data-act="all off"
        aria-pressed={workspace.session.envelopes_off}
        title="Nothing moves over time"
        onclick={() => workspace.move('session', null, { envelopes_off: !workspace.session!.envelopes_off })}
        >All envelopes off</button
      >
    {/if}
  </div>
  {#if rows.length}
    <table>
      <thead><tr class="soft"><th>Value</th><th>Moved by</th><td></td></tr></thead>
      <tbody>
        {#each rows as row (keyOf(row))}
          <tr data-row="{row.owner} {row.label}">
            <td>{row.owner}: {row.label}</td>
            <td class="soft"
              >{[
                row.face === 'sections' ? 'sections' : row.face ? 'envelope' : '',
                ...row.levers.map((lever) => lever.name),
                row.face && !row.on ? '(off)' : '',
              ]
                .filter(Boolean)
                .join(', ')}</td
            >
            <td class="acts">
              <button
                class="button"
                aria-pressed={automation.isOpen(row)}
                aria-label="Lane of {row.owner} {row.label}"
                onclick={() => toggle(row)}>Lane</button
              >
              <button
                class="button"
                aria-label="Edit {row.owner} {row.label}"
                onclick={() => {
                  automation.menu = { of: row.of, id: row.id, name: row.name };
                  close();
                }}>Edit</button
              >
            </td>
          </tr>
        {/each}
      </tbody>
    </table>
  {:else}<p class="soft">
      Nothing moves over time yet. Choose a setting here, or press the small line beside a setting's name.
    </p>{/if}
</Dialog>

<style>
  .line,
  .acts {
    display: flex;
    flex-wrap: wrap;
    align-items: center;
    gap: 8px;
  }
  .line {
    margin: 4px 0 8px;
  }
  .acts {
    justify-content: flex-end;
  }
  .space {
    flex: 1;
  }
  table {
    width: 100%;
    border-collapse: collapse;
  }
  th {
    text-align: left;
    font-weight: 400;
  }
  td {
    padding: 2px 6px 2px 0;
    border-bottom: 1px solid var(--line);
  }
  select {
    height: 1.5rem;
    max-width: 18rem;
    border: 1px solid var(--edge);
    background: var(--plate);
  }
  [aria-pressed='true'] {
    background: var(--ink);
    color: var(--plate);
  }
</style>
