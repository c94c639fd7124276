<script lang="ts">
  /** Gain over frequency; a handle for each band of the equaliser moves its frequency and gain. */
  import { coloursOf, line, pattern, between, prepare, rule, whenShown } from '../draw/canvas';
  import { pixel, valueAt, type Axis } from '../draw/scale';
  import { clamp, tidy } from '../controls/value';
  import { workspace } from '../state/workspace.svelte';

  let canvas = $state<HTMLCanvasElement | null>(null);
  let box = $state.raw({ width: 0, height: 0 });
  let gesture = '';
  let held = $state<number | null>(null);

  const response = $derived(workspace.study?.response ?? null);
  const settings = $derived(workspace.step?.settings ?? {});
  const xs = $derived<Axis>({ low: Math.log10(20), high: Math.log10(20000), from: 34, to: box.width - 12 });
  const ys = $derived<Axis>({ low: -18, high: 18, from: box.height - 22, to: 26 });
  const FREQUENCIES = [20, 50, 100, 200, 500, 1000, 2000, 5000, 10000, 20000];
  const name = (hz: number) => (hz >= 1000 ? `${hz / 1000}k` : String(hz));
  const gained = (band: number) =>
    !['high-pass', 'low-pass', 'off'].includes(String(settings[`band${band}_kind`]));
  const handles = $derived(
    [1, 2, 3, 4]
      .filter((band) => settings[`band${band}_kind`] !== 'off')
      .map((band) => ({
        band,
        x: pixel(Math.log10(clamp(Number(settings[`band${band}_frequency_hz`]), 20, 20000)), xs),
        y: pixel(gained(band) ? clamp(Number(settings[`band${band}_gain_db`]), ys.low, ys.high) : 0, ys),
      })),
  );

  function paint(): void {
    if (!canvas) return;
    const context = prepare(canvas);
    if (!context || !response) return;
    const colours = coloursOf(canvas);
    context.textBaseline = 'middle';
    for (const hz of FREQUENCIES) {
      const x = pixel(Math.log10(hz), xs);
      context.strokeStyle = colours.line;
      rule(context, x, ys.to, x, ys.from);
      context.fillStyle = colours.soft;
      context.textAlign = 'center';
      context.fillText(name(hz), x, box.height - 10);
    }
    for (const db of [-18, -12, -6, 0, 6, 12, 18]) {
      const y = pixel(db, ys);
      context.strokeStyle = colours.line;
      rule(context, xs.from, y, xs.to, y);
      context.fillStyle = colours.soft;
      context.textAlign = 'right';
      context.fillText(db > 0 ? `+${db}` : String(db), xs.from - 5, y);
    }
    const px = response.frequency_hz.map((hz) => pixel(Math.log10(hz), xs));
    const py = response.gain_db.map((db) => pixel(clamp(db, ys.low, ys.high), ys));
    const zero = px.map(() => pixel(0, ys));
    between(
      context,
      px,
      zero,
      py.map((y, i) => Math.max(y, zero[i]!)),
    );
    context.fillStyle = pattern(context, 'hatch', colours.taken);
    context.fill();
    between(
      context,
      px,
      py.map((y, i) => Math.min(y, zero[i]!)),
      zero,
    );
    context.fillStyle = pattern(context, 'grain', colours.after);
    context.fill();
    context.strokeStyle = colours.after;
    context.lineWidth = 2;
    line(context, px, py);
    context.lineWidth = 1;
  }

  $effect(() => {
    void [response, xs, ys];
    paint();
  });
  $effect(() => {
    if (!canvas) return;
    return whenShown(canvas, () => {
      box = { width: canvas!.clientWidth, height: canvas!.clientHeight };
      paint();
    });
  });

  function move(event: PointerEvent): void {
    if (held === null || !workspace.step) return;
    const bounds = canvas!.getBoundingClientRect();
    const hz = 10 ** clamp(valueAt(event.clientX - bounds.left, xs), xs.low, xs.high);
    const db = tidy(clamp(valueAt(event.clientY - bounds.top, ys), ys.low, ys.high), 'dB');
    const change = {
      [`band${held}_frequency_hz`]: tidy(hz, 'Hz'),
      [`band${held}_gain_db`]: gained(held) ? db : 0,
    };
    workspace.set(workspace.step.id, change, gesture);
  }
</script>

<figure class="response" aria-label="Gain over frequency">
  <canvas bind:this={canvas}></canvas>
  <span class="title">Gain, dB, over frequency, Hz</span>
  {#each handles as handle (handle.band)}
    <button
      class="figure"
      tabindex="-1"
      data-picture="band{handle.band}"
      aria-label="Band {handle.band}"
      style:left="{handle.x}px"
      style:top="{handle.y}px"
      onpointerdown={(event) => {
        event.currentTarget.setPointerCapture(event.pointerId);
        gesture = crypto.randomUUID();
        held = handle.band;
      }}
      onpointermove={move}
      onpointerup={() => (held = null)}>{handle.band}</button
    >
  {/each}
</figure>

<style>
  .response {
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
  }
  .title {
    position: absolute;
    left: 36px;
    top: 4px;
    color: var(--ink-soft);
    font-size: 12px;
    line-height: 16px;
  }
  button {
    position: absolute;
    width: 18px;
    height: 18px;
    margin: -9px 0 0 -9px;
    padding: 0;
    line-height: 16px;
    font-size: 11px;
    background: var(--plate);
    border: 1px solid var(--ink);
    clip-path: polygon(0 0, 70% 0, 100% 30%, 100% 100%, 0 100%);
    touch-action: none;
    cursor: move;
  }
</style>
