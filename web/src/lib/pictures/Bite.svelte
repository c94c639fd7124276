<script lang="ts">
  /** The picture of dynamics: before outlined, peaks after filled pale and RMS dark, taken hatched, added in grains; GR beneath. */
  import { clamp } from '../controls/value';
  import { dragged } from '../draw/drag';
  import { pixel, valueAt } from '../draw/scale';
  import { spanText } from '../draw/time';
  import { zooming } from '../draw/zoom';
  import { automation } from '../state/automation.svelte';
  import { workspace } from '../state/workspace.svelte';
  import { BOTTOM, frameOf, grid, LEFT, RIGHT, says, shapesOf, TOP } from './geometry/bite';
  import Plot, { type Mark } from './Plot.svelte';

  let box = $state.raw({ width: 0, height: 0 });
  let moving = $state<number | null>(null);

  const study = $derived(workspace.measuring.study);
  const processor = $derived(
    workspace.selection.step ? workspace.described.processor(workspace.selection.step.kind) : undefined,
  );
  /** The setting drawn across the level, such as a threshold. */
  const lineName = $derived(processor?.level_line ?? null);
  const stored = $derived(lineName ? workspace.selection.step?.settings[lineName] : undefined);
  const threshold = $derived(
    moving ??
      (typeof stored === 'number'
        ? automation.shown({ of: 'step', id: workspace.selection.stepId, name: lineName! }, stored)
        : null),
  );
  /** What the detector listens to where that is not the sound as it is: the threshold is then for that. */
  const detector = $derived(
    study?.detector ??
      (workspace.selection.step?.key || (workspace.selection.step?.settings['key_filter'] ?? 'off') !== 'off'
        ? 'detector'
        : null),
  );
  const warn = $derived(workspace.selection.step?.settings['warn_above_db']);
  // While it is dragged the axis stands still.
  const inSight = $derived(moving === null ? threshold : null);
  let frozen = $state.raw<ReturnType<typeof frameOf> | null>(null);
  const frame = $derived(frozen ?? frameOf(study?.bite ?? null, inSight, box));
  const lines = $derived(grid(frame));
  const shapes = $derived(
    study ? shapesOf(study.bite, frame, detector !== null, typeof warn === 'number' ? warn : null) : [],
  );
  const span = $derived<[number, number]>(study ? [study.bite_start_s, study.bite_end_s] : [0, 1]);
  const legend = $derived<Mark[]>([
    { mark: 'outline', text: 'before' },
    { mark: 'pale', text: 'after' },
    { mark: 'fill', text: 'RMS' },
    { mark: 'hatch', text: 'taken' },
    { mark: 'grain', text: 'added' },
    ...(detector ? [{ mark: 'key', text: detector } as const] : []),
  ]);

  $effect(() => {
    if (box.width) workspace.measuring.setColumns(box.width - LEFT - RIGHT);
  });

  const drag = dragged({
    hold: () => {
      const [step, name, was] = [workspace.selection.step!, lineName!, threshold!];
      frozen = frame;
      moving = was;
      return (gesture) => workspace.set(step.id, { [name]: was }, gesture);
    },
    move: ({ y, gesture }) => {
      const low = processor?.settings.find((setting) => setting.name === lineName)?.minimum ?? -60;
      moving = clamp(Math.round(valueAt(y, frame.levels) * 10) / 10, low, 0);
      workspace.set(workspace.selection.step!.id, { [lineName!]: moving }, gesture);
    },
    release: () => {
      moving = null;
      frozen = null;
    },
  });
</script>

<Plot
  name="bite"
  label="Level before and after over the passage"
  says={study ? says(study.bite, threshold) : ''}
  title="Level, dBFS"
  {legend}
  layers={[lines, shapes]}
  bind:box
  playhead={{ start_s: span[0], end_s: span[1], left: LEFT, right: RIGHT, top: TOP, bottom: BOTTOM }}
  ondblclick={() => workspace.measuring.setZoom(0, 1)}
  {@attach zooming(LEFT, RIGHT)}
>
  {#if frame.reductions}
    <span class="note left">{frame.reductions.low ? 'Change of gain, dB' : 'Gain reduction, dB'}</span>
  {/if}
  {#if frame.gateBase !== null}<span class="note gate-state" style:top="{frame.levels.from + 1}px"
      >{processor?.shows_gate ? 'gate' : 'active'}</span
    >{/if}
  {#if study}<span class="note right figure">{spanText(...span)}</span>{/if}
  {#if threshold !== null}
    <div
      class="level-handle"
      data-picture="threshold"
      role="slider"
      tabindex="-1"
      aria-label="Threshold in the picture"
      aria-valuenow={threshold}
      aria-valuetext="{threshold.toFixed(1)} dB"
      style:top="{pixel(clamp(threshold, frame.levels.low, frame.levels.high), frame.levels)}px"
      style:left="{LEFT}px"
      style:right="{RIGHT}px"
      {@attach drag}
    >
      <span class="figure">{threshold.toFixed(1)} dB</span>
    </div>
  {/if}
</Plot>

<style>
  .note {
    bottom: 2px;
  }
  .left {
    left: 44px;
  }
  .right {
    right: 8px;
  }
  .gate-state {
    left: 8px;
    bottom: auto;
  }
</style>
