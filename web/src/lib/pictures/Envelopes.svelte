<script lang="ts">
  /** The transient shaper's envelopes, and beneath them the gain they make. */
  import { spanText } from '../draw/time';
  import { zooming, zoomToHit } from '../draw/zoom';
  import { workspace } from '../state/workspace.svelte';
  import { axesOf, grid, LEFT, RIGHT, says, shapesOf } from './geometry/envelopes';
  import Plot, { type Mark } from './Plot.svelte';

  let box = $state.raw({ width: 0, height: 0 });
  const study = $derived(workspace.measuring.study);
  const axes = $derived(axesOf(study?.bite ?? null, box));
  const lines = $derived(grid(axes));
  const shapes = $derived(study ? shapesOf(study.bite, axes) : []);
  const LEGEND: Mark[] = [
    { mark: 'after', text: 'quick' },
    { mark: 'ink', text: 'slow' },
    { mark: 'soft', text: 'now' },
    { mark: 'dashed', text: 'lingering' },
  ];

  $effect(() => {
    if (box.width) workspace.measuring.setColumns(box.width - LEFT - RIGHT);
  });
</script>

<Plot
  name="envelopes"
  label="Envelopes of the detectors and the gain they make"
  says={study ? says(study.bite) : ''}
  title="Envelopes, dB"
  legend={LEGEND}
  layers={[lines, shapes]}
  bind:box
  playhead={study
    ? { start_s: study.bite_start_s, end_s: study.bite_end_s, left: LEFT, right: RIGHT, top: 28, bottom: 18 }
    : null}
  ondblclick={() => workspace.measuring.setZoom(0, 1)}
  data-columns={study?.bite.rows['quick_db']?.length ?? 0}
  {@attach zooming(LEFT, RIGHT)}
>
  <span class="note" style:top="{axes.gains.to - 15}px">Gain made of them, dB</span>
  {#if study}<span class="note right figure">{spanText(study.bite_start_s, study.bite_end_s)}</span>{/if}
  <button class="button hit" onclick={zoomToHit}>One hit</button>
</Plot>

<style>
  .note {
    left: 44px;
  }
  .right {
    left: auto;
    right: 8px;
    bottom: 2px;
  }
  .hit {
    position: absolute;
    right: 8px;
    top: 24px;
    height: 1.25rem;
    line-height: 1.125rem;
    padding: 0 6px;
    font-size: 0.75rem;
    z-index: 2;
  }
</style>
