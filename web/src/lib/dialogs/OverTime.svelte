<script lang="ts">
  /** One value over time: drawn, given by section, recorded, under levers; every point and section value can be typed. */
  import { newId, type Breakpoint } from '../api/client';
  import { formatSetting, parseSetting } from '../controls/value';
  import { barsAndBeats, parsePlace } from '../draw/grid';
  import { automation } from '../state/automation.svelte';
  import { isSwitch, keyOf, type Address } from '../state/course';
  import { addTarget, leversFor, newLever } from '../state/levers';
  import { workspace } from '../state/workspace.svelte';
  import Dialog from './Dialog.svelte';

  let { address, close }: { address: Address; close: () => void } = $props();
  const RAMPS = [
    [0, 'hard'],
    [0.25, '1/4 beat'],
    [0.5, '1/2 beat'],
    [1, '1 beat'],
    [2, '2 beats'],
    [4, '4 beats'],
  ] as const;
  const SHAPES = ['hold', 'linear', 'curve'] as const;

  const setting = $derived(automation.scale(address));
  const moved = $derived(automation.of(address));
  const envelope = $derived(automation.envelope(address));
  const sections = $derived(workspace.session?.sections ?? []);
  const levers = $derived(leversFor(workspace, address));
  const onOff = $derived(isSwitch(address));
  let wrong = $state<string | null>(null);

  const text = (value: number) =>
    onOff ? (value >= 0.5 ? 'on' : 'off') : setting ? formatSetting(value, setting) : '';
  function read(typed: string): number | null {
    wrong = null;
    if (!setting) return null;
    const plain = typed.trim().toLowerCase();
    if (onOff) {
      if (['on', '1'].includes(plain)) return 1;
      if (['off', '0'].includes(plain)) return 0;
      wrong = 'Type on or off.';
      return null;
    }
    const result = parseSetting(typed, setting);
    if ('refused' in result) {
      wrong = result.refused;
      return null;
    }
    return result.value;
  }
  function value(point: Breakpoint, field: HTMLInputElement): void {
    const next = read(field.value);
    if (next !== null) void automation.put(address, { ...point, value: next });
    field.value = text(next ?? point.value);
  }
  function place(point: Breakpoint, field: HTMLInputElement): void {
    const next = parsePlace(field.value, workspace.grid);
    wrong =
      next === null ? `"${field.value}" is no place: type bars like 17.3, or seconds like 12.5 s.` : null;
    if (next !== null) void automation.put(address, { ...point, at_s: next });
    field.value = barsAndBeats(next ?? point.at_s, workspace.grid);
  }
  function sectionValue(id: string, field: HTMLInputElement): void {
    if (!field.value.trim()) return void automation.edit(address, { sections: { [id]: null } });
    const next = read(field.value);
    if (next !== null) void automation.edit(address, { sections: { [id]: next } });
    else field.value = '';
  }
  function add(): void {
    const at_s = workspace.listening.heardPosition();
    const present = moved ? automation.valueAt(moved, at_s) : automation.present(address);
    if (present !== null)
      void automation.put(address, {
        id: newId(),
        at_s,
        value: present,
        shape: onOff ? 'hold' : 'linear',
        bend: 0,
      });
  }
  async function lever(choice: string): Promise<void> {
    const id = choice === 'new' ? await newLever(workspace, setting?.label ?? 'Lever') : choice;
    addTarget(workspace, id, address);
    automation.lever = id;
    close();
  }
</script>

<Dialog
  title="{moved?.owner ?? ''} {moved?.label ?? setting?.label ?? address.name} over time"
  {close}
  width={34}
>
  <div class="line">
    <button
      class="button"
      data-first
      data-act="draw"
      title="A lane beneath the timeline, with points to drag"
      onclick={() => {
        void automation.draw(address);
        close();
      }}>Draw an envelope</button
    >
    <button
      class="button"
      data-act="sections"
      disabled={!sections.length || moved?.face === 'sections'}
      title={sections.length
        ? 'One value for each section, with a ramp between them'
        : 'There are no sections yet'}
      onclick={() => automation.turn(address, 'sections')}>A value for each section</button
    >
    <button
      class="button"
      data-act="record"
      aria-pressed={automation.armed.includes(keyOf(address))}
      title="While it plays, what you do with the control is written down"
      onclick={() => {
        automation.toggleArmed(address);
        close();
      }}>{automation.armed.includes(keyOf(address)) ? 'Stop recording' : 'Record by hand'}</button
    >
  </div>
  {#if envelope}
    <div class="line">
      <button
        class="button"
        data-act="bypass"
        aria-pressed={envelope.bypass}
        onclick={() => automation.edit(address, { bypass: !envelope.bypass })}
        >{envelope.bypass ? 'Envelope is off' : 'Turn the envelope off'}</button
      >
      {#if moved?.face === 'sections'}
        <button class="button" data-act="points" onclick={() => automation.turn(address, 'points')}
          >Turn into points</button
        >
        <label
          >Ramp <select
            aria-label="Ramp between sections"
            value={envelope.ramp_beats}
            onchange={(event) => automation.edit(address, { ramp_beats: Number(event.currentTarget.value) })}
          >
            {#each RAMPS as [beats, label] (beats)}<option value={beats}>{label}</option>{/each}
          </select></label
        >
      {/if}
      <span class="space"></span>
      <button class="button" data-act="remove" onclick={() => automation.clear(address)}>Remove</button>
    </div>
  {/if}
  {#if moved?.face === 'sections'}
    <table>
      <thead><tr class="soft"><th>Section</th><th>Value</th></tr></thead>
      <tbody>
        {#each sections as section (section.id)}
          <tr data-row={section.name}>
            <td>{section.name}</td>
            <td
              ><input
                class="figure"
                aria-label="{setting?.label} in {section.name}"
                placeholder={text(moved.still)}
                value={envelope?.sections[section.id] === undefined
                  ? ''
                  : text(envelope.sections[section.id]!)}
                onchange={(event) => sectionValue(section.id, event.currentTarget)}
              /></td
            >
          </tr>
        {/each}
      </tbody>
    </table>
  {:else if envelope?.points.length}
    <table>
      <thead><tr class="soft"><th>At</th><th>Value</th><th>To the next point</th><td></td></tr></thead>
      <tbody>
        {#each envelope.points as point, index (point.id)}
          <tr>
            <td
              ><input
                class="figure"
                aria-label="Place of point {index + 1}"
                value={barsAndBeats(point.at_s, workspace.grid)}
                title="{point.at_s.toFixed(3)} s; type bars, or seconds like 12.5 s"
                onchange={(event) => place(point, event.currentTarget)}
              /></td
            >
            <td
              ><input
                class="figure"
                aria-label="Value of point {index + 1}"
                value={text(point.value)}
                onchange={(event) => value(point, event.currentTarget)}
              /></td
            >
            <td class="shape">
              <select
                aria-label="From point {index + 1} to the next"
                value={point.shape}
                disabled={onOff}
                onchange={(event) =>
                  automation.put(address, {
                    ...point,
                    shape: event.currentTarget.value as Breakpoint['shape'],
                    bend: event.currentTarget.value === 'curve' ? 0.5 : 0,
                  })}
              >
                {#each SHAPES as shape (shape)}<option value={shape}
                    >{shape === 'linear' ? 'straight' : shape === 'curve' ? 'curved' : shape}</option
                  >{/each}
              </select>
              {#if point.shape === 'curve'}<input
                  type="range"
                  min="-1"
                  max="1"
                  step="0.05"
                  aria-label="Bend after point {index + 1}: late to early"
                  value={point.bend}
                  onchange={(event) =>
                    automation.put(address, { ...point, bend: Number(event.currentTarget.value) })}
                />{/if}
            </td>
            <td
              ><button
                class="button"
                aria-label="Remove point {index + 1}"
                onclick={() => automation.remove(address, [point.id])}>Remove</button
              ></td
            >
          </tr>
        {/each}
      </tbody>
    </table>
    <button class="button" data-act="add" onclick={add}>Add a point at the playhead</button>
  {/if}
  <p class="wrong" role="status">{wrong ?? ''}</p>
  {#if !onOff}
    <div class="line">
      {#if moved?.levers.length}
        <span>Moved by {moved.levers.map((one) => one.name).join(', ')}.</span>
      {/if}
      <label
        >Put under a lever <select
          aria-label="Put under a lever"
          value=""
          onchange={(event) => lever(event.currentTarget.value)}
        >
          <option value="" disabled>choose</option>
          {#each levers as one (one.id)}<option value={one.id}>{one.name}</option>{/each}
          <option value="new">a new lever</option>
        </select></label
      >
    </div>
  {/if}
</Dialog>

<style>
  .line {
    display: flex;
    flex-wrap: wrap;
    align-items: center;
    gap: 8px;
    margin: 6px 0;
  }
  .space {
    flex: 1;
  }
  table {
    width: 100%;
    border-collapse: collapse;
    margin: 4px 0;
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
    border: 1px solid var(--edge);
    background: var(--plate);
  }
  td input.figure {
    width: 7rem;
  }
  .shape {
    display: flex;
    gap: 6px;
  }
  input[type='range'] {
    width: 6rem;
    padding: 0;
    accent-color: var(--after);
  }
  [aria-pressed='true'] {
    background: var(--ink);
    color: var(--plate);
  }
  .wrong {
    min-height: 1.25rem;
    margin: 2px 0;
    color: var(--taken);
  }
</style>
