<script lang="ts">
  /** The levels of all strips in one canvas beside the tree's rows: in as an outline, out filled, gain reduction bitten out. One
   * canvas, since a machine without a graphics card paints one much faster than a hundred small boxes. */
  import { untrack } from 'svelte';
  import type { Strip } from '../api/client';
  import { coloursOf, pattern, prepare, whenShown, type Colours } from '../draw/canvas';
  import { frames } from '../draw/frames';
  import { workspace } from '../state/workspace.svelte';
  import { bars, moved, rowsInSight, type Bars } from './meters';

  let { strips }: { strips: Strip[] } = $props();

  /** As high as the rows of the tree. */
  const ROW = 28;
  const BAR = 4;
  const GAP = 1;
  const rows = $derived(strips.map((strip) => strip.id).join(' '));
  let shown: (Bars | undefined)[] = [];
  let colours: Colours | null = null;
  let context: CanvasRenderingContext2D | null = null;

  function paintRow(canvas: HTMLCanvasElement, n: number, next: Bars): void {
    if (!context || !colours) return;
    const width = canvas.clientWidth;
    const top = Math.round(n * ROW + (ROW - 2 * BAR - GAP) / 2);
    context.clearRect(0, n * ROW, width, ROW);
    context.fillStyle = colours.line;
    context.fillRect(0, top + 2 * BAR + GAP + 1, width, 1);
    context.strokeStyle = colours.soft;
    if (next.input > 0) context.strokeRect(0.5, top + 0.5, Math.max(1, next.input * width - 1), BAR - 1);
    context.fillStyle = colours.after;
    context.fillRect(0, top + BAR + GAP, next.output * width, BAR);
    if (next.bite > 0) {
      const from = width * (1 - next.bite);
      context.fillStyle = colours.ground;
      context.fillRect(from, top + BAR + GAP, width - from, BAR);
      context.fillStyle = pattern(context, 'hatch', colours.taken);
      context.fillRect(from, top + BAR + GAP, width - from, BAR);
      context.strokeStyle = colours.taken;
      context.strokeRect(from + 0.5, top + BAR + GAP + 0.5, width - from - 1, BAR - 1);
    }
  }

  function paint(canvas: HTMLCanvasElement): void {
    const box = canvas.closest('[data-scrolls]');
    const { live } = workspace.listening;
    if (!box || !canvas.clientHeight) return;
    const [first, last] = frames.on
      ? rowsInSight(box.scrollTop, box.clientHeight, ROW, strips.length)
      : [0, strips.length];
    for (let n = first; n < last; n += 1) {
      const strip = strips[n]!;
      const next = bars(
        live?.strips[strip.id],
        strip.path.steps.map((step) => live?.steps[step.id] ?? 0),
      );
      if (!moved(shown[n], next)) continue;
      shown[n] = next;
      paintRow(canvas, n, next);
    }
  }

  function meters(canvas: HTMLCanvasElement) {
    const anew = () => {
      context = prepare(canvas);
      colours = coloursOf(canvas);
      shown = [];
      paint(canvas);
    };
    $effect(() => {
      void rows; // and not of every edit: to fit a canvas the page is laid out
      untrack(anew);
    });
    const ends = [frames.add(() => paint(canvas)), whenShown(canvas, anew)];
    return () => ends.forEach((end) => end());
  }
</script>

<canvas {@attach meters} style:height="{ROW * strips.length}px" aria-hidden="true"></canvas>

<style>
  canvas {
    position: absolute;
    top: 2px;
    right: 98px;
    width: 34px;
    pointer-events: none;
  }
</style>
