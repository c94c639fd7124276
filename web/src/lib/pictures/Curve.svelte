<script lang="ts">
  /** Output level against input level, with the levels at the detector as a histogram along the input axis. */
  import { between, coloursOf, line, pattern, prepare, rule, whenShown } from '../draw/canvas';
  import { pixel, valueAt, type Axis } from '../draw/scale';
  import { clamp } from '../controls/value';
  import { workspace } from '../state/workspace.svelte';

  let canvas = $state<HTMLCanvasElement | null>(null);
  let box = $state.raw({ width: 0, height: 0 });
  let gesture = '';
  let held: 'threshold' | 'ratio' | null = null;

  const curve = $derived(workspace.study?.curve ?? null);
  const settings = $derived(workspace.step?.settings ?? {});
  const TICKS = [-48, -36, -24, -12, 0];
  const HISTOGRAM = 30;
  const xs = $derived<Axis>({ low: -54, high: 3, from: 34, to: box.width - 10 });
  const ys = $derived<Axis>({ low: -54, high: 3, from: box.height - 24 - HISTOGRAM, to: 26 });
  const live = $derived(workspace.playing ? (workspace.header?.detector_db ?? -160) : -160);

  function outputAt(input: number): number {
    if (!curve) return input;
    const at = clamp((input - curve.input_db[0]!) / 0.5, 0, curve.input_db.length - 1);
    return curve.output_db[Math.round(at)]!;
  }

  function paint(): void {
    if (!canvas) return;
    const context = prepare(canvas);
    if (!context || !curve) return;
    const colours = coloursOf(canvas);
    context.textBaseline = 'middle';
    for (const tick of TICKS) {
      const [x, y] = [pixel(tick, xs), pixel(tick, ys)];
      context.strokeStyle = colours.line;
      rule(context, xs.from, y, xs.to, y);
      rule(context, x, ys.to, x, ys.from);
      context.fillStyle = colours.soft;
      context.textAlign = 'right';
      context.fillText(String(tick), xs.from - 5, y);
      context.textAlign = 'center';
      context.fillText(String(tick), x, box.height - 10);
    }
    context.save();
    context.beginPath();
    context.rect(xs.from, ys.to, xs.to - xs.from, ys.from - ys.to);
    context.clip();
    const px = curve.input_db.map((v) => pixel(v, xs));
    const unity = curve.input_db.map((v) => pixel(v, ys));
    const out = curve.output_db.map((v) => pixel(v, ys));
    between(
      context,
      px,
      unity.map((y, i) => Math.min(y, out[i]!)),
      out,
    );
    context.fillStyle = pattern(context, 'hatch', colours.taken);
    context.fill();
    between(
      context,
      px,
      out.map((y, i) => Math.min(y, unity[i]!)),
      unity,
    );
    context.fillStyle = pattern(context, 'grain', colours.after);
    context.fill();
    context.strokeStyle = colours.soft;
    context.setLineDash([3, 3]);
    line(context, px, unity);
    context.setLineDash([]);
    context.strokeStyle = colours.after;
    context.lineWidth = 2;
    line(context, px, out);
    context.lineWidth = 1;
    context.restore();
    const threshold = Number(settings['threshold_db'] ?? 0);
    const tallest = Math.max(0.02, ...curve.histogram);
    const base = box.height - 20;
    const width = pixel(1.5, xs) - pixel(0, xs);
    curve.histogram.forEach((share, i) => {
      const from = curve.histogram_db[i]!;
      if (from < xs.low || !share) return;
      context.globalAlpha = from >= threshold ? 1 : 0.4;
      context.fillStyle = colours.key;
      const height = (share / tallest) * (HISTOGRAM - 4);
      context.fillRect(pixel(from, xs), base - height, Math.max(1, width - 1), height);
    });
    context.globalAlpha = 1;
    context.strokeStyle = colours.ink;
    const x = pixel(clamp(threshold, xs.low, xs.high), xs);
    rule(context, x, base - HISTOGRAM, x, base);
  }

  $effect(() => {
    void [curve, settings, xs, ys];
    paint();
  });
  $effect(() => {
    if (!canvas) return;
    return whenShown(canvas, () => {
      box = { width: canvas!.clientWidth, height: canvas!.clientHeight };
      paint();
    });
  });

  /** Left of the knee a drag moves the threshold, right of it the ratio. */
  function press(event: PointerEvent): void {
    if (!workspace.step || !curve) return;
    canvas!.setPointerCapture(event.pointerId);
    gesture = crypto.randomUUID();
    const x = event.clientX - canvas!.getBoundingClientRect().left;
    held = x > pixel(Number(settings['threshold_db']), xs) + 24 ? 'ratio' : 'threshold';
    move(event);
  }
  function move(event: PointerEvent): void {
    if (!held || !workspace.step) return;
    const bounds = canvas!.getBoundingClientRect();
    const input = valueAt(event.clientX - bounds.left, xs);
    if (held === 'threshold') {
      workspace.set(workspace.step.id, { threshold_db: Math.round(clamp(input, -60, 0) * 10) / 10 }, gesture);
      return;
    }
    const threshold = Number(settings['threshold_db']);
    const output = valueAt(event.clientY - bounds.top, ys);
    const ratio = clamp((input - threshold) / Math.max(output - threshold, 0.01), 1, 50);
    workspace.set(workspace.step.id, { ratio: Number(ratio.toPrecision(3)) }, gesture);
  }
</script>

<figure class="curve" aria-label="Output level against input level, with the levels at the detector">
  <canvas
    bind:this={canvas}
    data-picture="curve"
    onpointerdown={press}
    onpointermove={move}
    onpointerup={() => (held = null)}
  ></canvas>
  <span class="title">Out against in, dB</span>
  {#if live > xs.low && curve}
    <i
      class="live"
      style:transform="translate({pixel(Math.min(live, xs.high), xs)}px, {pixel(
        Math.max(outputAt(live), ys.low),
        ys,
      )}px)"
    ></i>
  {/if}
</figure>

<style>
  .curve {
    position: relative;
    margin: 0;
    height: 100%;
    min-width: 0;
  }
  canvas {
    position: absolute;
    inset: 0;
    width: 100%;
    height: 100%;
    cursor: move;
    touch-action: none;
  }
  .live {
    position: absolute;
    left: -5px;
    top: -5px;
    width: 10px;
    height: 10px;
    border: 1.5px solid var(--ink);
    background: var(--plate);
    border-radius: 50%;
    pointer-events: none;
  }
  .title {
    position: absolute;
    left: 36px;
    top: 4px;
    color: var(--ink-soft);
    font-size: 12px;
    line-height: 16px;
    pointer-events: none;
  }
</style>
