<script lang="ts">
  /** Shapes on a canvas of their own, painted anew only when they change or the picture is shown otherwise. */
  import { coloursOf, paint, prepare } from '../draw/canvas';
  import type { Shape } from '../draw/shapes';

  let { shapes, shown }: { shapes: Shape[]; shown: number } = $props();
  let canvas = $state<HTMLCanvasElement | null>(null);

  $effect(() => {
    void shown;
    if (!canvas) return;
    const context = prepare(canvas);
    if (context) paint(context, coloursOf(canvas), shapes);
  });
</script>

<canvas bind:this={canvas} aria-hidden="true"></canvas>

<style>
  canvas {
    position: absolute;
    inset: 0;
    width: 100%;
    height: 100%;
    pointer-events: none;
  }
</style>
