<script lang="ts">
  /** The waveform with the ceiling across it: before outlined, after filled, what was cut hatched and marked below. */
  import Segments from '../controls/Segments.svelte';
  import { clamp, format } from '../controls/value';
  import { dragged } from '../draw/drag';
  import { pixel, valueAt } from '../draw/scale';
  import { spanText } from '../draw/time';
  import { zooming, zoomToHit } from '../draw/zoom';
  import { automation } from '../state/automation.svelte';
  import { workspace } from '../state/workspace.svelte';
  import {
    axisOf,
    cuts,
    grid,
    LEFT,
    RIGHT,
    says,
    shapesOf,
    waveOf,
    windowAround,
    type Sides,
  } from './geometry/wave';
  import Plot, { type Mark } from './Plot.svelte';

  /** Columns asked for while it scrolls through two seconds of the passage. */
  const SCROLLING_COLUMNS = 4096;
  const LOWEST_CEILING_DB = -36;

  let box = $state.raw({ width: 0, height: 0 });
  const LEGEND: Mark[] = [
    { mark: 'outline', text: 'before' },
    { mark: 'fill', text: 'after' },
    { mark: 'hatch', text: 'taken' },
    { mark: 'taken', text: 'cut here' },
    { mark: 'ink', text: 'ceiling' },
  ];
  let sides = $state<Sides>('two');
  let time = $state<'still' | 'scrolling'>('still');
  let dragging = $state<number | null>(null);

  const study = $derived(workspace.measuring.study);
  const stored = $derived(workspace.selection.step?.settings['ceiling_db']);
  const setting = $derived(
    typeof stored === 'number'
      ? automation.shown({ of: 'step', id: workspace.selection.stepId, name: 'ceiling_db' }, stored)
      : stored,
  );
  const ceiling_db = $derived(dragging ?? study?.output_ceiling_db ?? null);
  const ceiling = $derived(ceiling_db === null ? null : 10 ** (ceiling_db / 20));
  const seen = $derived.by<[number, number]>(() => {
    const count = study?.bite.before_low.length ?? 0;
    if (!study || time === 'still' || !workspace.listening.playing) return [0, count];
    return windowAround(workspace.listening.position_s, study.bite_start_s, study.bite_end_s, count);
  });
  const wave = $derived(
    study ? waveOf(study.bite, seen, sides, 10 ** ((study.linear_gain_db ?? 0) / 20)) : null,
  );
  const ys = $derived(axisOf(wave, ceiling, sides, box));
  const lines = $derived(grid(ys, sides, box));
  const shapes = $derived(wave ? shapesOf(wave, ys, sides, box) : []);
  const span = $derived.by<[number, number]>(() => {
    if (!study) return [0, 1];
    const each = (study.bite_end_s - study.bite_start_s) / study.bite.before_low.length;
    return [study.bite_start_s + seen[0] * each, study.bite_start_s + seen[1] * each];
  });

  $effect(() => {
    if (box.width)
      workspace.measuring.setColumns(time === 'scrolling' ? SCROLLING_COLUMNS : box.width - LEFT - RIGHT);
  });

  const drag = dragged({
    hold: () => {
      if (typeof setting !== 'number') return false;
      const [step, was] = [workspace.selection.step!, setting];
      dragging = ceiling_db;
      return (gesture) => workspace.set(step.id, { ceiling_db: was }, gesture);
    },
    move: ({ y, gesture }) => {
      if (typeof setting !== 'number') return;
      const wanted = 20 * Math.log10(Math.max(Math.abs(valueAt(y, ys)), 1e-3));
      const offset = (study?.output_ceiling_db ?? setting) - setting;
      const kept = clamp(Math.round((wanted - offset) * 10) / 10, LOWEST_CEILING_DB, 0);
      dragging = kept + offset;
      workspace.set(workspace.selection.step!.id, { ceiling_db: kept }, gesture);
    },
    release: () => (dragging = null),
  });
</script>

<Plot
  name="wave"
  label="Waveform before and after, with what was cut"
  says={wave ? says(wave, ceiling_db) : ''}
  title="Waveform, dBFS"
  legend={LEGEND}
  layers={[lines, shapes]}
  bind:box
  playhead={{ start_s: span[0], end_s: span[1], left: LEFT, right: RIGHT, top: 28, bottom: 18 }}
  ondblclick={() => workspace.measuring.setZoom(0, 1)}
  data-touched={wave ? cuts(wave) : 0}
  {@attach zooming(LEFT, RIGHT)}
>
  {#snippet tools()}
    <Segments
      label="Sides"
      value={sides}
      change={(value) => (sides = value)}
      options={[
        ['two', 'Two-sided'],
        ['one', 'Absolute', 'Magnitudes, one side only'],
      ]}
    />
    <Segments
      label="Time"
      value={time}
      change={(value) => (time = value)}
      options={[
        ['still', 'Still'],
        ['scrolling', 'Scrolling', 'Two seconds around the playhead'],
      ]}
    />
    <button
      class="button"
      title="Zoom to the loudest hit; double-click the picture for all"
      onclick={zoomToHit}>One hit</button
    >
  {/snippet}
  {#if study}<span class="note figure">{spanText(...span)}</span>{/if}
  <span class="note cut">cut</span>
  {#if ceiling !== null && typeof setting === 'number'}
    {#each sides === 'two' ? [1, -1] : [1] as side (side)}
      <div
        class="level-handle"
        data-picture={side > 0 ? 'ceiling' : 'ceiling below'}
        role="slider"
        tabindex="-1"
        aria-label="Ceiling in the picture"
        aria-valuenow={ceiling_db}
        aria-valuetext={format(ceiling_db ?? 0, 'dB')}
        style:top="{pixel(side * Math.min(ceiling, ys.high), ys)}px"
        style:left="{LEFT}px"
        style:right="{RIGHT}px"
        {@attach drag}
      >
        {#if side > 0}<span class="figure">{format(ceiling_db ?? 0, 'dB')}</span>{/if}
      </div>
    {/each}
  {/if}
</Plot>

<style>
  .note {
    right: 8px;
    bottom: 2px;
  }
  .cut {
    right: auto;
    left: 8px;
    bottom: 16px;
  }
</style>
