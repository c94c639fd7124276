<script lang="ts">
  /** The transient shaper's envelopes, and beneath them the gain they make. */
  import { between, coloursOf, line, pattern, prepare, rule, whenShown } from '../draw/canvas';
  import { decibelTicks, pixel, type Axis } from '../draw/scale';
  import { spanText } from '../draw/time';
  import { zooming, zoomToHit } from '../draw/zoom';
  import { clamp } from '../controls/value';
  import { workspace } from '../state/workspace.svelte';
  import Playhead from './Playhead.svelte';

  let canvas = $state<HTMLCanvasElement | null>(null);
  let box = $state.raw({ width: 0, height: 0 });
  const LEFT = 40;
  const RIGHT = 8;
  const study = $derived(workspace.study);
  const rows = $derived(study?.bite.rows ?? {});
  const gain = $derived((study?.bite.reduction_db ?? []).map((v) => -v));
  const most = $derived(Math.max(6, ...gain.map((v) => Math.ceil(Math.abs(v) / 6) * 6)));
  const levels = $derived<Axis>({ low: -60, high: 0, from: box.height * 0.62, to: 28 });
  const gains = $derived<Axis>({ low: -most, high: most, from: box.height - 20, to: box.height * 0.62 + 16 });

  function paint(): void {
    if (!canvas) return;
    const context = prepare(canvas);
    if (!context) return;
    const colours = coloursOf(canvas);
    const right = box.width - RIGHT;
    context.textBaseline = 'middle';
    context.textAlign = 'right';
    context.lineWidth = 1;
    for (const [axis, room] of [
      [levels, 16],
      [gains, 16],
    ] as const) {
      for (const tick of decibelTicks(axis.low, axis.high, Math.abs(axis.from - axis.to) / room)) {
        const y = pixel(tick, axis);
        context.strokeStyle = colours.line;
        rule(context, LEFT, y, right, y);
        context.fillStyle = colours.soft;
        context.fillText(axis === gains && tick > 0 ? `+${tick}` : String(tick), LEFT - 6, y);
      }
    }
    if (!rows['quick_db']?.length) return;
    const xs = rows['quick_db'].map((_, i) => LEFT + ((i + 0.5) / rows['quick_db']!.length) * (right - LEFT));
    const place = (name: string) => rows[name]!.map((v) => pixel(clamp(v, levels.low, levels.high), levels));
    // Where the quick envelope stands over the slow one is attack; where the lingering one stands over what is, sustain.
    const [quick, slow, now, lingering] = ['quick_db', 'slow_db', 'now_db', 'lingering_db'].map(place) as [number[], number[], number[], number[]]; // prettier-ignore
    between(context, xs, quick.map((y, i) => Math.min(y, slow[i]!)), slow); // prettier-ignore
    context.fillStyle = pattern(context, 'grain', colours.after);
    context.fill();
    context.strokeStyle = colours.after;
    context.lineWidth = 1.5;
    line(context, xs, quick);
    context.lineWidth = 1;
    context.strokeStyle = colours.ink;
    line(context, xs, slow);
    context.strokeStyle = colours.soft;
    line(context, xs, now);
    context.setLineDash([4, 3]);
    line(context, xs, lingering);
    context.setLineDash([]);
    const zero = xs.map(() => pixel(0, gains));
    const made = gain.map((v) => pixel(v, gains));
    between(context, xs, made.map((y, i) => Math.min(y, zero[i]!)), zero); // prettier-ignore
    context.fillStyle = pattern(context, 'grain', colours.after);
    context.fill();
    between(context, xs, zero, made.map((y, i) => Math.max(y, zero[i]!))); // prettier-ignore
    context.fillStyle = pattern(context, 'hatch', colours.taken);
    context.fill();
    context.strokeStyle = colours.ink;
    line(context, xs, made);
  }
  $effect(() => {
    void [rows, gain, levels, gains];
    paint();
  });
  $effect(() => {
    if (!canvas) return;
    return whenShown(canvas, () => {
      box = { width: canvas!.clientWidth, height: canvas!.clientHeight };
      paint();
      workspace.setColumns(box.width - LEFT - RIGHT);
    });
  });
</script>

<figure
  class="envelopes"
  {@attach zooming(LEFT, RIGHT)}
  ondblclick={() => workspace.setZoom(0, 1)}
  aria-label="Envelopes of the detectors and the gain they make"
  data-columns={rows['quick_db']?.length ?? 0}
>
  <canvas bind:this={canvas}></canvas>
  <span class="title">Envelopes, dB</span>
  <ul class="legend" aria-hidden="true">
    <li><i class="quick"></i>quick</li>
    <li><i class="slow"></i>slow</li>
    <li><i class="now"></i>now</li>
    <li><i class="lingering"></i>lingering</li>
    <li><button class="button" onclick={zoomToHit}>One hit</button></li>
  </ul>
  <span class="note" style:top="{gains.to - 15}px">Gain made of them, dB</span>
  {#if study}<span class="note right figure">{spanText(study.bite_start_s, study.bite_end_s)}</span>{/if}
  {#if study}
    <Playhead
      start_s={study.bite_start_s}
      end_s={study.bite_end_s}
      left={LEFT}
      right={RIGHT}
      top={28}
      bottom={18}
    />
  {/if}
</figure>

<style>
  .envelopes {
    position: relative;
    margin: 0;
    height: 100%;
    min-width: 0;
    overflow: hidden;
    container-type: inline-size;
  }
  canvas {
    position: absolute;
    inset: 0;
    width: 100%;
    height: 100%;
  }
  .title,
  .legend,
  .note {
    position: absolute;
    color: var(--ink-soft);
    font-size: 12px;
    line-height: 16px;
  }
  .title {
    left: 44px;
    top: 4px;
  }
  .legend {
    right: 8px;
    top: 2px;
    display: flex;
    align-items: center;
    gap: 12px;
    margin: 0;
    padding: 0;
    list-style: none;
    z-index: 2;
  }
  .legend i {
    display: inline-block;
    width: 14px;
    margin-right: 5px;
    vertical-align: middle;
    border-top: 1.5px solid var(--ink);
  }
  .legend .quick {
    border-color: var(--after);
  }
  .legend .now {
    border-color: var(--ink-soft);
  }
  .legend .lingering {
    border-top: 1.5px dashed var(--ink-soft);
  }
  .legend button {
    height: 20px;
    line-height: 18px;
    padding: 0 6px;
    font-size: 12px;
  }
  .note {
    left: 44px;
  }
  .right {
    left: auto;
    right: 8px;
    bottom: 2px;
  }
  @container (width < 480px) {
    .title {
      display: none;
    }
  }
</style>
