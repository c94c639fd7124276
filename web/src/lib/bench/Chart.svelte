<script lang="ts">
  /** A result as a picture with axes: lines (pins dashed beneath), or levels over tone and frequency in grains of ink. */
  import type { BenchResult } from '../api/client';
  import { imageOf } from '../draw/canvas';
  import Plot, { type Mark } from '../pictures/Plot.svelte';
  import type { Pin } from '../state/bench.svelte';
  import { axesOf, gridShapes, isGrid, resultShapes, says } from './chart';

  let { result, pins }: { result: BenchResult; pins: Pin[] } = $props();
  let box = $state.raw({ width: 0, height: 0 });
  let frame = $state<HTMLElement | null>(null);

  const shown = $derived([
    result,
    ...pins.map((pin) => pin.result).filter((other) => other.test === result.test),
  ]);
  const axes = $derived(axesOf(shown, box));
  const legend = $derived<Mark[]>(
    isGrid(result)
      ? [{ mark: 'ink', text: 'level: the darker, the stronger' }]
      : [
          ...result.lines.map(({ name }, n) => ({ mark: n === 0 ? 'after' : 'soft', text: name }) as const),
          ...(shown.length > 1 ? [{ mark: 'dashed', text: 'pinned' } as const] : []),
        ],
  );
  const lines = $derived(gridShapes(result, axes, box));
  const shapes = $derived(resultShapes(result, pins, axes));

  /** The picture as a file, as it is shown. */
  export function image(done: (file: Blob | null) => void): void {
    if (frame) imageOf(frame, box, [...lines, ...shapes], done);
  }
</script>

<div class="chart plate" bind:this={frame}>
  <div class="face">
    <Plot
      name="chart-plot"
      label="{result.test}: {result.y_label} over {result.x_label}"
      says={says(result)}
      {legend}
      layers={[lines, shapes]}
      bind:box
    />
  </div>
</div>

<style>
  .chart {
    height: 100%;
    min-height: 0;
  }
  /* Its ground is painted, for the PNG; nothing moves over it. */
  .face {
    clip-path: polygon(0 0, calc(100% - var(--facet)) 0, 100% var(--facet), 100% 100%, 0 100%);
  }
</style>
