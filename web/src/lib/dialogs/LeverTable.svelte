<script lang="ts">
  /** What a lever moves: each setting from 0 to 100 %, typed or learnt, with the bend of its way. */
  import { formatSetting, parseSetting } from '../controls/value';
  import { automation } from '../state/automation.svelte';
  import { distance, keyOf, type Address } from '../state/course';
  import { learning } from '../state/learning.svelte';
  import { addTarget, choices, leverById, stripOf } from '../state/levers';
  import { setOf } from '../state/moves';
  import { workspace } from '../state/workspace.svelte';
  import type { LeverTarget } from '../api/client';
  import Dialog from './Dialog.svelte';

  let { id, close }: { id: string; close: () => void } = $props();
  const MAX_TARGETS = 16;
  const lever = $derived(leverById(workspace.session, id));
  const strip = $derived(workspace.session ? stripOf(workspace.session, id) : null);
  const free = $derived(
    workspace.session && lever
      ? choices(
          workspace,
          strip ? [strip] : workspace.session.strips,
          strip ? [] : workspace.session.levers,
        ).filter(
          ({ address }) =>
            !(address.of === 'lever' && address.id === id) &&
            !lever.targets.some((target) => keyOf(target) === keyOf(address)),
        )
      : [],
  );
  let wrong = $state<string | null>(null);

  const share = (target: LeverTarget) =>
    automation.of(target)?.levers.find((one) => one.lever_id === id) ?? null;
  function put(target: LeverTarget, change: Partial<LeverTarget>): void {
    if (!lever) return;
    const moves = lever.targets.map((one) => (keyOf(one) === keyOf(target) ? { ...one, ...change } : one));
    void workspace.edit({ op: 'set_lever', lever_id: id, moves });
  }
  /** At 0 % it is the document's value that is typed, at 100 % how far the lever goes from there. */
  function typed(target: LeverTarget, end: 'low' | 'high', field: HTMLInputElement): void {
    const setting = automation.setting(target);
    const ends = share(target);
    if (!setting || !ends) return;
    const read = parseSetting(field.value, setting);
    wrong = 'refused' in read ? read.refused : null;
    if ('value' in read) {
      if (end === 'high') put(target, { by: distance(ends.low, read.value, setting) });
      else void workspace.edit(setOf(target.of, target.id, { [target.name]: read.value }));
    } else field.value = formatSetting(ends[end], setting);
  }
  function remove(): void {
    void workspace.edit({ op: 'remove_lever', lever_id: id });
    close();
  }
  const nameOf = (address: Address) => {
    const moved = automation.of(address);
    return moved ? `${moved.owner}: ${moved.label}` : address.name;
  };
</script>

<Dialog title="Lever" {close} width={44}>
  {#if lever}
    <div class="line">
      <label
        >Name <input
          data-first
          aria-label="Name of the lever"
          value={lever.name}
          maxlength="120"
          onchange={(event) => {
            const name = event.currentTarget.value.trim();
            if (name) void workspace.edit({ op: 'set_lever', lever_id: id, name });
          }}
        /></label
      >
      <span class="soft">{strip ? `on ${strip.name}` : 'of the session'}</span>
      <span class="space"></span>
      <button
        class="button"
        data-act="learn"
        title="What stands now is 0 %; then move settings, and take where they stand as 100 %"
        onclick={() => {
          learning.begin(id);
          close();
        }}>Set range by example</button
      >
      <button class="button" onclick={remove}>Remove lever</button>
    </div>
    {#if lever.targets.length}
      <table>
        <thead
          ><tr class="soft"><th>Moves</th><th>At 0 %</th><th>At 100 %</th><th>Curve</th><td></td></tr></thead
        >
        <tbody>
          {#each lever.targets as target (keyOf(target))}
            {@const setting = automation.setting(target)}
            {@const ends = share(target)}
            <tr data-row={setting?.label ?? target.name}>
              <td>{nameOf(target)}</td>
              {#each ['low', 'high'] as const as end (end)}
                <td
                  ><input
                    class="figure"
                    aria-label="{setting?.label} at {end === 'low' ? '0' : '100'} %"
                    value={setting && ends ? formatSetting(ends[end], setting) : ''}
                    onchange={(event) => typed(target, end, event.currentTarget)}
                  /></td
                >
              {/each}
              <td
                ><input
                  type="range"
                  min="-1"
                  max="1"
                  step="0.05"
                  title="Late to early; straight in the middle"
                  aria-label="Bend of {setting?.label}: late to early"
                  value={target.bend}
                  onchange={(event) => put(target, { bend: Number(event.currentTarget.value) })}
                /></td
              >
              <td
                ><button
                  class="button"
                  aria-label="Take {setting?.label} from the lever"
                  onclick={() =>
                    workspace.edit({
                      op: 'set_lever',
                      lever_id: id,
                      moves: lever.targets.filter((one) => one !== target),
                    })}>Remove</button
                ></td
              >
            </tr>
          {/each}
        </tbody>
      </table>
    {:else}<p class="soft">It moves nothing yet: learn its ends, or add settings and type them.</p>{/if}
    <p class="wrong" role="status">{wrong ?? ''}</p>
    {#if lever.targets.length < MAX_TARGETS}
      <label
        >Add a setting <select
          aria-label="Add a setting"
          value=""
          onchange={(event) => {
            const choice = free[Number(event.currentTarget.value)];
            if (choice) addTarget(workspace, id, choice.address);
            event.currentTarget.value = '';
          }}
        >
          <option value="" disabled>choose</option>
          {#each free as choice, index (keyOf(choice.address))}<option value={index}
              >{choice.owner}: {choice.label}</option
            >{/each}
        </select></label
      >
    {:else}<p class="soft">A lever moves at most {MAX_TARGETS} settings.</p>{/if}
  {/if}
</Dialog>

<style>
  .line {
    display: flex;
    flex-wrap: wrap;
    align-items: center;
    gap: 8px;
    margin: 4px 0 8px;
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
  input,
  select {
    height: 1.5rem;
    padding: 0 6px;
    max-width: 22rem;
    border: 1px solid var(--edge);
    background: var(--plate);
  }
  td input.figure {
    width: 6rem;
  }
  input[type='range'] {
    width: 5rem;
    padding: 0;
    accent-color: var(--after);
  }
  .wrong {
    min-height: 1.25rem;
    margin: 2px 0;
    color: var(--taken);
  }
</style>
