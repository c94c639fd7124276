<script lang="ts">
  /** A result as a picture with axes: lines (pins dashed beneath), or levels over tone and frequency in grains of ink. */
  import type { BenchResult } from '../api/client';
  import { clamp } from '../controls/value';
  import { coloursOf, line, prepare, rule, whenShown } from '../draw/canvas';
  import { pixel, type Axis } from '../draw/scale';
  import type { Pin } from '../state/bench.svelte';
  import { isGrid, logTicks, plainTicks, roundTicks, xSpan, ySpan } from './chart';

  let { result, pins }: { result: BenchResult; pins: Pin[] } = $props();
  let canvas = $state<HTMLCanvasElement | null>(null);
  let box = $state.raw({ width: 0, height: 0 });
  const DASHES = [[6, 4], [2, 3], [10, 3, 2, 3], [1, 4]]; // prettier-ignore
  const LOWEST_DB = -120;

  const shown = $derived([
    result,
    ...pins.map((pin) => pin.result).filter((other) => other.test === result.test),
  ]);
  const xs = $derived<Axis>({ ...xSpan(shown), from: 48, to: box.width - 16 });
  const ys = $derived<Axis>({ ...ySpan(shown), from: box.height - 34, to: 26 });
  const place = (x: number) => pixel(result.log_x ? Math.log10(Math.max(x, 1)) : x, xs);
  const height = (y: number) =>
    clamp(pixel(isGrid(result) ? Math.log10(Math.max(y, 1)) : y, ys), ys.to, ys.from);

  export function image(done: (file: Blob | null) => void): void {
    canvas?.toBlob(done, 'image/png');
  }

  function paint(): void {
    if (!canvas) return;
    const context = prepare(canvas);
    if (!context) return;
    const colours = coloursOf(canvas);
    // The ground is part of the picture, so that it can be kept as a file.
    context.fillStyle = colours.plate;
    context.fillRect(0, 0, box.width, box.height);
    context.textBaseline = 'middle';
    context.textAlign = 'center';
    for (const { at, text } of result.log_x ? logTicks(xs) : roundTicks(xs, 8)) {
      const x = pixel(at, xs);
      context.strokeStyle = colours.line;
      rule(context, x, ys.to, x, ys.from);
      context.fillStyle = colours.soft;
      context.fillText(text, x, ys.from + 11);
    }
    context.textAlign = 'right';
    for (const { at, text } of isGrid(result)
      ? logTicks(ys)
      : plainTicks(ys, Math.max(2, (ys.from - ys.to) / 22))) {
      const y = pixel(at, ys);
      context.strokeStyle = colours.line;
      rule(context, xs.from, y, xs.to, y);
      context.fillStyle = colours.soft;
      context.fillText(text, xs.from - 6, y);
    }
    context.fillText(result.x_label, xs.to, ys.from + 25);
    context.textAlign = 'left';
    context.fillText(result.y_label, xs.from, 13);
    if (isGrid(result)) grid(context, colours.ink);
    else {
      pins.forEach((pin, n) => {
        if (pin.result.test !== result.test) return;
        context.setLineDash(DASHES[n % DASHES.length]!);
        context.strokeStyle = colours.ink;
        for (const drawn of pin.result.lines) line(context, drawn.x.map(place), drawn.y.map(height));
      });
      context.setLineDash([]);
      result.lines.forEach((drawn, n) => {
        context.strokeStyle = n === 0 ? colours.after : colours.soft;
        context.lineWidth = n === 0 ? 1.5 : 1;
        line(context, drawn.x.map(place), drawn.y.map(height));
      });
      context.lineWidth = 1;
    }
    context.textAlign = 'center';
    // Where a pinned mark lies, open and to the left, with its pin's letter.
    for (const pin of isGrid(result) ? [] : pins) {
      let before = -100;
      for (const mark of pin.result.marks) {
        const [x, y] = [place(mark.x) - 6, height(mark.y)];
        context.strokeStyle = context.fillStyle = colours.ink;
        context.strokeRect(x - 2.5, y - 2.5, 5, 5);
        if (x - before > 26) context.fillText(pin.letter, x - 9, y);
        before = x;
      }
    }
    let last = -100;
    for (const mark of result.marks) {
      const [x, y] = [place(mark.x), height(mark.y)];
      context.strokeStyle = context.fillStyle = isGrid(result) ? colours.taken : colours.ink;
      context.beginPath();
      context.arc(x, y, isGrid(result) ? 6 : 2.5, 0, 7);
      if (isGrid(result)) context.stroke();
      else context.fill();
      if (x - last < 20) continue;
      last = x;
      // Beside the line, where a pinned one may go on above.
      context.fillText(mark.text, clamp(x + 12, xs.from + 12, xs.to - 16), Math.max(y - 9, ys.to + 4));
    }
  }

  /** Each level as ink: the stronger, the darker. Above the diagonal of the tone lie its harmonics, elsewhere what folds. */
  function grid(context: CanvasRenderingContext2D, ink: string): void {
    const { grid_x, grid_y } = result;
    context.fillStyle = ink;
    const wide = (xs.to - xs.from) / grid_x.length + 1;
    const high = (ys.from - ys.to) / grid_y.length + 1;
    result.grid.forEach((column, n) => {
      const loudest = Math.max(...column);
      column.forEach((db, m) => {
        const share = clamp((db - loudest - LOWEST_DB) / -LOWEST_DB, 0, 1);
        if (share <= 0) return;
        context.globalAlpha = share * share;
        context.fillRect(place(grid_x[n]!) - wide / 2, height(grid_y[m]!) - high / 2, wide, high);
      });
    });
    context.globalAlpha = 1;
  }

  $effect(() => {
    void [result, pins, xs, ys];
    paint();
  });
  $effect(() => {
    if (!canvas) return;
    return whenShown(canvas, () => {
      box = { width: canvas!.clientWidth, height: canvas!.clientHeight };
      paint();
    });
  });
</script>

<div class="chart plate" role="img" aria-label="{result.test}: {result.y_label} over {result.x_label}">
  <div class="face"><canvas bind:this={canvas}></canvas></div>
</div>

<style>
  .chart {
    height: 100%;
    min-height: 0;
  }
  canvas {
    width: 100%;
    height: 100%;
    display: block;
  }
</style>
