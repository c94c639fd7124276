<script lang="ts">
  /**
   * All lanes of a split in one picture: what enters and leaves it over frequency, dividers to drag, and for each lane
   * the level its detector hears, its threshold and level to drag, and what it takes, hatched from the top, live.
   */
  import { untrack } from 'svelte';
  import type { Lane } from '../api/client';
  import { clamp, format, tidy, within } from '../controls/value';
  import { dragged } from '../draw/drag';
  import { pixel, valueAt } from '../draw/scale';
  import { atHz } from '../draw/shapes';
  import { bandsState, mainStep, takenDb } from '../state/bands.svelte';
  import { setLane } from '../state/splits';
  import { spectrumState } from '../state/spectrum.svelte';
  import { automation } from '../state/automation.svelte';
  import { workspace } from '../state/workspace.svelte';
  import { axesOf, columnsOf, grid, levelAt, moveDivider, says, shapesOf } from './geometry/bands';
  import Plot, { type Mark } from './Plot.svelte';

  const MAX_LEVEL_DB = 24;

  let box = $state.raw({ width: 0, height: 0 });
  /** What is dragged, by the name of its handle. */
  let grip = $state<string | null>(null);
  let moving = $state<number[] | null>(null);

  const split = $derived(workspace.selection.step?.lanes ? workspace.selection.step : null);
  const lanes = $derived(split?.lanes ?? []);
  const byBands = $derived(split?.settings['by'] === 'bands');
  const dividers = $derived(moving ?? (byBands ? (split!.settings['dividers_hz'] as number[]) : []));
  const spectrum = $derived(byBands ? (spectrumState.result?.spectrum ?? null) : null);
  const axes = $derived(axesOf(box));
  const columns = $derived(columnsOf(lanes.length, byBands ? dividers : null, axes));
  const taken = $derived(lanes.map((lane) => takenDb(lane) ?? 0));
  const lines = $derived(grid(axes, byBands));
  const shapes = $derived(
    shapesOf(
      spectrum,
      lanes.map((lane, i) => ({
        column: columns[i]!,
        taken_db: taken[i]!,
        heard_db: bandsState.of(lane)?.heard_db ?? null,
      })),
      axes,
    ),
  );
  const sentence = $derived(
    says(lanes.map((lane, i) => ({ name: lane.name, taken_db: taken[i]!, level_db: lane.level_db }))),
  );
  const y = (level: number) => levelAt(level, axes);
  const legend = $derived<Mark[]>([
    ...(spectrum
      ? [{ mark: 'soft', text: 'before' } as const, { mark: 'pale', text: 'after' } as const]
      : []),
    { mark: 'hatch', text: 'taken' },
    { mark: 'key', text: 'level at the detector' },
    { mark: 'ink', text: 'threshold; wedge: lane level' },
  ]);

  $effect(() => {
    void [workspace.measuring.study, spectrumState.fraction];
    if (workspace.measuring.study && split) {
      untrack(() => void bandsState.ask());
      if (byBands) untrack(() => void spectrumState.ask());
    }
  });

  function release(): void {
    grip = null;
    moving = null;
  }
  /** One for each handle and for good: an edit must not end the drag that makes it. */
  const drags: Record<string, ReturnType<typeof dragged>> = {};

  const range = $derived(
    workspace.described.processor('split')?.settings.find((one) => one.name === 'dividers_hz'),
  );
  function setDividers(wanted: number[], gesture: string | null = null): void {
    const tidied = wanted.map((hz) => tidy(within(hz, range), 'Hz'));
    if (tidied.some((hz, i) => i > 0 && hz < 1.1 * tidied[i - 1]!)) return;
    moving = grip ? tidied : null;
    workspace.set(split!.id, { dividers_hz: tidied }, gesture);
  }
  /** One divider, or with Shift all of them together. */
  const onDivider = (index: number) =>
    (drags[`divider ${index}`] ??= (() => {
      let began: number[] = [];
      return dragged({
        hold: () => {
          grip = `divider ${index}`;
          began = [...dividers];
          const [step, was] = [split!, began];
          return (gesture) => workspace.set(step.id, { dividers_hz: was }, gesture);
        },
        move: ({ x, gesture, event }) =>
          setDividers(moveDivider(began, index, 10 ** valueAt(x, axes.xs), event.shiftKey), gesture),
        release,
      });
    })());
  function nudgeDivider(event: KeyboardEvent, index: number): void {
    const turn = { ArrowRight: 1, ArrowUp: 1, ArrowLeft: -1, ArrowDown: -1 }[event.key];
    if (turn) {
      const ratio = 2 ** ((turn * (event.shiftKey ? 1 : event.ctrlKey ? 6 : 2)) / 24);
      setDividers(dividers.map((hz, i) => (i === index || event.altKey ? hz * ratio : hz)));
    } else if (event.key === 'Delete' || event.key === 'Backspace') removeDivider(index);
    else return;
    event.preventDefault();
    event.stopPropagation();
  }
  const removeDivider = (index: number) =>
    void workspace.edit({ op: 'remove_divider', step_id: split!.id, index });
  function addDivider(event: MouseEvent & { currentTarget: HTMLElement }): void {
    if (!byBands) return;
    const hz = 10 ** valueAt(event.clientX - event.currentTarget.getBoundingClientRect().left, axes.xs);
    void workspace.edit({ op: 'add_divider', step_id: split!.id, frequency_hz: tidy(hz, 'Hz') });
  }

  const thresholdOf = (lane: Lane) => {
    const step = mainStep(lane);
    const value = step?.settings['threshold_db'];
    if (typeof value !== 'number') return null;
    return automation.shown({ of: 'step', id: step!.id, name: 'threshold_db' }, value);
  };
  /** A lane as it is now; the one a drag began with is of an older version. */
  const laneNow = (id: string) => lanes.find((lane) => lane.id === id);
  const onThreshold = (id: string) =>
    (drags[`threshold ${id}`] ??= (() => {
      let began = { y: 0, value: 0 };
      return dragged({
        hold: (place) => {
          const lane = laneNow(id);
          const step = lane && mainStep(lane);
          if (!step) return false;
          grip = `threshold ${id}`;
          began = { y: place.y, value: thresholdOf(lane)! };
          return (gesture) => workspace.set(step.id, { threshold_db: began.value }, gesture);
        },
        move: (place) => {
          const step = mainStep(laneNow(id)!)!;
          const { settings } = workspace.described.processor(step.kind)!;
          const setting = settings.find((candidate) => candidate.name === 'threshold_db')!;
          const moved = valueAt(place.y, axes.ys) - valueAt(began.y, axes.ys);
          const wanted = clamp(began.value + moved, setting.minimum ?? -80, setting.maximum ?? 0);
          workspace.set(step.id, { threshold_db: tidy(wanted, 'dB') }, place.gesture);
        },
        release,
      });
    })());
  const onLevel = (id: string) =>
    (drags[`level ${id}`] ??= (() => {
      let began = { y: 0, value: 0 };
      return dragged({
        hold: (place) => {
          const lane = laneNow(id)!;
          grip = `level ${id}`;
          began = { y: place.y, value: lane.level_db };
          return (gesture) => setLane(workspace, lane, { level_db: began.value }, gesture);
        },
        move: (place) => {
          const moved = valueAt(place.y, axes.levels) - valueAt(began.y, axes.levels);
          const level_db = tidy(clamp(began.value + moved, -MAX_LEVEL_DB, MAX_LEVEL_DB), 'dB');
          setLane(workspace, laneNow(id)!, { level_db }, place.gesture);
        },
        release,
      });
    })());
  function nudgeLevel(event: KeyboardEvent, lane: Lane): void {
    const turn = { ArrowUp: 1, ArrowRight: 1, ArrowDown: -1, ArrowLeft: -1 }[event.key];
    if (!turn) return;
    const by = turn * (event.shiftKey ? 0.1 : event.ctrlKey ? 3 : 0.5);
    setLane(workspace, lane, {
      level_db: tidy(within(lane.level_db + by, workspace.described.setting('lane', 'level_db')), 'dB'),
    });
    event.preventDefault();
    event.stopPropagation();
  }
</script>

<Plot
  name="bands"
  label="All lanes in one picture"
  title={byBands ? 'dBFS over Hz' : 'dBFS'}
  {legend}
  says={sentence}
  layers={[lines, shapes]}
  bind:box
  data-lanes={bandsState.result?.bands.lanes.length ?? 0}
  data-taken={taken.map((level) => level.toFixed(1)).join(' ')}
  ondblclick={addDivider}
>
  {#if split}
    {#each lanes as lane, i (lane.id)}
      {@const [from, to] = columns[i]!}
      {@const threshold = thresholdOf(lane)}
      <div class="lane" class:pale={lane.mute} style:left="{from}px" style:width="{to - from}px">
        <span class="head">
          <button
            class="name"
            title={lane.name}
            onclick={() => workspace.selection.choose(workspace.selection.stripId, null, lane.id)}
            >{lane.name}</button
          >
          {#each [['S', 'solo', lane.solo], ['M', 'mute', lane.mute], ['B', 'bypass', lane.bypass]] as const as [letter, what, on] (what)}
            <button
              class="act"
              class:on
              aria-pressed={on}
              aria-label="{what} {lane.name} in the picture"
              onclick={() => setLane(workspace, lane, { [what]: !on })}>{letter}</button
            >
          {/each}
        </span>
      </div>
      {#if threshold !== null}
        <div
          class="threshold"
          class:grip={grip === `threshold ${lane.id}`}
          role="presentation"
          data-picture="threshold {lane.name}"
          style:left="{from + 2}px"
          style:width="{to - from - 4}px"
          style:top="{y(threshold)}px"
          title="Threshold of {lane.name}: drag"
          {@attach onThreshold(lane.id)}
        >
          <span class="figure">{threshold.toFixed(1)}</span>
        </div>
      {/if}
      <div
        class="level"
        role="slider"
        tabindex="0"
        aria-label="Level of {lane.name}"
        aria-valuemin="-24"
        aria-valuemax="24"
        aria-valuenow={lane.level_db}
        aria-valuetext={format(lane.level_db, 'dB')}
        data-picture="level {lane.name}"
        title="Level of {lane.name}: {format(lane.level_db, 'dB')}"
        style:left="{to - 14}px"
        style:top="{axes.ys.to}px"
        style:height="{axes.ys.from - axes.ys.to}px"
        {@attach onLevel(lane.id)}
        onkeydown={(event) => nudgeLevel(event, lane)}
        ondblclick={(event) => {
          event.stopPropagation();
          setLane(workspace, lane, { level_db: 0 });
        }}
      >
        <i class="zero" style:top="{pixel(0, axes.levels) - axes.ys.to}px"></i>
        <i class="wedge" style:top="{pixel(clamp(lane.level_db, -24, 24), axes.levels) - axes.ys.to}px"></i>
        {#if Math.abs(lane.level_db) > 0.05 || grip === `level ${lane.id}`}
          <span class="figure" style:top="{pixel(clamp(lane.level_db, -24, 24), axes.levels) - axes.ys.to}px"
            >{format(lane.level_db, 'dB').replace(' dB', '')}</span
          >
        {/if}
      </div>
    {/each}
    {#each dividers as hz, index (index)}
      <div
        class="divider"
        class:grip={grip === `divider ${index}`}
        role="slider"
        tabindex="0"
        aria-label="Divider {index + 1}"
        aria-valuemin={range?.minimum}
        aria-valuemax={range?.maximum}
        aria-valuenow={hz}
        aria-valuetext={format(hz, 'Hz')}
        data-picture="divider {index + 1}"
        title="Drag; with Shift all dividers together; Del removes it"
        style:left="{atHz(hz, axes.xs)}px"
        style:top="{axes.ys.to - 18}px"
        style:bottom="20px"
        {@attach onDivider(index)}
        onkeydown={(event) => nudgeDivider(event, index)}
        ondblclick={(event) => event.stopPropagation()}
      >
        {#if grip === `divider ${index}`}<span class="figure">{format(hz, 'Hz')}</span>{/if}
      </div>
    {/each}
  {/if}
</Plot>

<style>
  .lane {
    position: absolute;
    top: 18px;
  }
  .pale {
    opacity: 0.5;
  }
  .head {
    display: flex;
    align-items: center;
    gap: 2px;
    padding: 0 3px;
    overflow: hidden;
  }
  .name {
    border: 0;
    padding: 0;
    font-weight: 650;
    font-size: 0.6875rem;
    line-height: 1rem;
    min-width: 0;
    overflow: hidden;
    text-overflow: ellipsis;
    white-space: nowrap;
  }
  .threshold {
    position: absolute;
    height: 11px;
    margin-top: -5px;
    cursor: ns-resize;
    touch-action: none;
  }
  .threshold::before {
    content: '';
    position: absolute;
    left: 0;
    right: 0;
    top: 5px;
    border-top: 1.5px solid var(--ink);
  }
  .threshold span {
    position: absolute;
    right: 15px;
    top: -9px;
    font-size: 0.65625rem;
    line-height: 0.8125rem;
    padding: 0 2px;
    background: var(--plate);
    pointer-events: none;
  }
  .level {
    position: absolute;
    width: 12px;
    cursor: ns-resize;
    touch-action: none;
  }
  .level::before {
    content: '';
    position: absolute;
    left: 6px;
    top: 0;
    bottom: 0;
    border-left: 1px solid var(--line);
  }
  .zero {
    position: absolute;
    left: 3px;
    width: 7px;
    border-top: 1px solid var(--ink-soft);
  }
  .wedge {
    position: absolute;
    left: 2px;
    width: 9px;
    height: 9px;
    margin-top: -4px;
    background: var(--ink);
    clip-path: polygon(0 50%, 55% 0, 100% 0, 100% 100%, 55% 100%);
  }
  .level span {
    position: absolute;
    right: 12px;
    margin-top: -8px;
    font-size: 0.65625rem;
    line-height: 1rem;
    padding: 0 2px;
    background: var(--plate);
  }
  .divider {
    position: absolute;
    width: 11px;
    margin-left: -5px;
    cursor: ew-resize;
    touch-action: none;
  }
  .divider::before {
    content: '';
    position: absolute;
    left: 5px;
    top: 0;
    bottom: 0;
    border-left: 1.5px solid var(--key);
  }
  .divider span {
    position: absolute;
    left: 9px;
    bottom: 4px;
    padding: 0 3px;
    background: var(--plate);
    color: var(--key);
    font-size: 0.6875rem;
    line-height: 0.9375rem;
    white-space: nowrap;
  }
</style>
