<script lang="ts">
  /** The picture of dynamics: before outlined, after filled, taken hatched, added in grains; GR beneath. */
  import { between, coloursOf, line, pattern, prepare, rule, whenShown } from '../draw/canvas';
  import { decibelTicks, pixel, valueAt, type Axis } from '../draw/scale';
  import { spanText } from '../draw/time';
  import { zooming } from '../draw/zoom';
  import { clamp } from '../controls/value';
  import { workspace } from '../state/workspace.svelte';
  import Playhead from './Playhead.svelte';

  let canvas = $state<HTMLCanvasElement | null>(null);
  let box = $state.raw({ width: 0, height: 0 });
  let dragging = $state(false);
  let gesture = '';

  const study = $derived(workspace.study);
  const processor = $derived(workspace.step ? workspace.processor(workspace.step.kind) : undefined);
  /** The setting drawn across the level, such as a threshold; a de-esser's is of its band, so it has none. */
  const lineName = $derived(processor?.level_line ?? null);
  const threshold = $derived(lineName ? workspace.step?.settings[lineName] : undefined);
  /** Whether the detector hears something else than the sound: the threshold is then for that. */
  const hears = $derived(
    Boolean(workspace.step?.key) || (workspace.step?.settings['key_filter'] ?? 'off') !== 'off',
  );
  const hasReduction = $derived((study?.bite.reduction_db.length ?? 0) > 0);

  const LEFT = 40;
  const RIGHT = 8;
  const TOP = 24;
  const levels = $derived<Axis>({
    low: typeof threshold === 'number' && threshold < -46 ? -84 : -48,
    high: 0,
    from: box.height * (hasReduction ? 0.72 : 0.93) - 2,
    to: TOP,
  });
  const changes = $derived(study?.bite.reduction_db ?? []);
  const most = $derived(Math.min(60, Math.max(6, ...changes.map((v) => Math.ceil(v / 2) * 2))));
  const rise = $derived(Math.min(24, Math.max(0, ...changes.map((v) => Math.ceil(-v / 2) * 2))));
  const gateStates = $derived(study?.bite.rows['gate_state'] ?? []);
  const mark = $derived(workspace.step?.settings['warn_above_db']);
  const DOOR = 10;
  const reductions = $derived<Axis>({
    low: rise,
    high: -most,
    from: levels.from + 14 + (gateStates.length ? DOOR + 2 : 0),
    to: box.height - 18,
  });
  const span = $derived<[number, number]>(study ? [study.bite_start_s, study.bite_end_s] : [0, 1]);

  function paint(): void {
    if (!canvas) return;
    const context = prepare(canvas);
    if (!context) return;
    const colours = coloursOf(canvas);
    const right = box.width - RIGHT;
    context.textBaseline = 'middle';
    context.textAlign = 'right';
    context.lineWidth = 1;
    for (const tick of decibelTicks(levels.low, levels.high, (levels.from - levels.to) / 20)) {
      const y = pixel(tick, levels);
      context.strokeStyle = colours.line;
      rule(context, LEFT, y, right, y);
      context.fillStyle = colours.soft;
      context.fillText(String(tick === 0 ? 0 : tick), LEFT - 6, y);
    }
    if (!study) return;
    const { before_db, after_db, reduction_db, detector_db } = study.bite;
    const xs = before_db.map((_, i) => LEFT + ((i + 0.5) / before_db.length) * (right - LEFT));
    const ys = (values: number[]) => values.map((v) => pixel(clamp(v, levels.low, levels.high), levels));
    const [before, after] = [ys(before_db), ys(after_db)];
    const floor = xs.map(() => levels.from);
    between(context, xs, after, floor);
    context.fillStyle = colours.after;
    context.fill();
    const upper = before.map((y, i) => Math.min(y, after[i]!));
    between(context, xs, upper, after);
    context.fillStyle = pattern(context, 'hatch', colours.taken);
    context.fill();
    between(
      context,
      xs,
      after.map((y, i) => Math.min(y, before[i]!)),
      before,
    );
    context.fillStyle = colours.plate;
    context.fill();
    context.fillStyle = pattern(context, 'grain', colours.after);
    context.fill();
    context.strokeStyle = colours.soft;
    line(context, xs, before);
    if (hears && detector_db.length) {
      context.strokeStyle = colours.key;
      context.lineWidth = 1.5;
      line(context, xs, ys(detector_db));
      context.lineWidth = 1;
    }
    if (reduction_db.length) {
      context.strokeStyle = context.fillStyle = colours.line;
      const down = reduction_db.map((v) => pixel(clamp(-v, -most, rise), reductions));
      const none = xs.map(() => pixel(0, reductions));
      const ticks = decibelTicks(-most, rise, Math.max(1, Math.abs(reductions.to - reductions.from) / 16));
      for (const tick of ticks) {
        const y = pixel(tick, reductions);
        context.strokeStyle = colours.line;
        rule(context, LEFT, y, right, y);
        context.fillStyle = colours.soft;
        context.fillText(String(tick === 0 ? 0 : tick), LEFT - 6, y);
      }
      between(context, xs, none, down.map((y, i) => Math.max(y, none[i]!))); // prettier-ignore
      context.fillStyle = pattern(context, 'hatch', colours.taken);
      context.fill();
      between(context, xs, down.map((y, i) => Math.min(y, none[i]!)), none); // prettier-ignore
      context.fillStyle = pattern(context, 'grain', colours.after);
      context.fill();
      context.strokeStyle = colours.taken;
      line(context, xs, down);
      if (typeof mark === 'number') {
        const y = pixel(-Math.min(mark, most), reductions);
        context.setLineDash([4, 3]);
        rule(context, LEFT, y, right, y);
        context.setLineDash([]);
        context.fillStyle = colours.taken;
        reduction_db.forEach((v, i) => {
          if (v > mark)
            context.fillRect(xs[i]! - 0.5, y, Math.max(1, (right - LEFT) / xs.length), down[i]! - y);
        });
      }
    }
    if (gateStates.length) {
      // Open fills the strip, held half of it, closing is hatched, shut leaves it empty.
      const base = levels.from + DOOR + 6;
      const wide = (right - LEFT) / xs.length + 0.5;
      gateStates.forEach((state, i) => {
        const height = [0, DOOR / 2, DOOR / 2, DOOR][state]!;
        context.fillStyle = state === 1 ? pattern(context, 'hatch', colours.key) : colours.key;
        if (height) context.fillRect(xs[i]! - wide / 2, base - height, wide, height);
      });
      context.strokeStyle = colours.line;
      rule(context, LEFT, base, right, base);
    }
  }

  $effect(() => {
    void [study, levels, reductions, gateStates, mark, hears];
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

  function thresholdAt(event: PointerEvent): void {
    const y = event.clientY - canvas!.getBoundingClientRect().top;
    const least = processor?.settings.find((setting) => setting.name === lineName)?.minimum ?? -60;
    const wanted = clamp(Math.round(valueAt(y, levels) * 10) / 10, least, 0);
    workspace.set(workspace.step!.id, { [lineName!]: wanted }, gesture);
    moving = wanted;
  }
  let moving = $state<number | null>(null);
  const shown = $derived(moving ?? (typeof threshold === 'number' ? threshold : null));
</script>

<figure
  class="bite"
  {@attach zooming(LEFT, RIGHT)}
  ondblclick={() => workspace.setZoom(0, 1)}
  aria-label="Level before and after over the passage"
>
  <canvas bind:this={canvas}></canvas>
  <span class="title">Level, dBFS</span>
  <ul class="legend" aria-hidden="true">
    <li><i class="outline"></i>before</li>
    <li><i class="fill"></i>after</li>
    <li><i class="hatch"></i>taken</li>
    <li><i class="grain"></i>added</li>
    {#if hears}<li><i class="hears"></i>detector</li>{/if}
  </ul>
  {#if hasReduction}<span class="note left">{rise ? 'Change of gain, dB' : 'Gain reduction, dB'}</span>{/if}
  {#if gateStates.length}<span class="note gate-state" style:top="{levels.from + 1}px"
      >{processor?.shows_gate ? 'gate' : 'active'}</span
    >{/if}
  {#if study}<span class="note right figure">{spanText(...span)}</span>{/if}
  <Playhead start_s={span[0]} end_s={span[1]} left={LEFT} right={RIGHT} top={24} bottom={18} />
  {#if shown !== null && box.height}
    <div
      class="threshold"
      class:held={dragging}
      data-picture="threshold"
      role="slider"
      tabindex="-1"
      aria-label="Threshold in the picture"
      aria-valuenow={shown}
      aria-valuetext="{shown.toFixed(1)} dB"
      style:top="{pixel(clamp(shown, levels.low, levels.high), levels)}px"
      style:left="{LEFT}px"
      style:right="{RIGHT}px"
      onpointerdown={(event) => {
        event.currentTarget.setPointerCapture(event.pointerId);
        gesture = crypto.randomUUID();
        dragging = true;
      }}
      onpointermove={(event) => dragging && thresholdAt(event)}
      onpointerup={() => {
        dragging = false;
        moving = null;
      }}
    >
      <span class="figure">{shown.toFixed(1)} dB</span>
    </div>
  {/if}
</figure>

<style>
  .bite {
    position: relative;
    margin: 0;
    height: 100%;
    min-width: 0;
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
    pointer-events: none;
  }
  .title {
    left: 44px;
    top: 4px;
  }
  .legend {
    right: 8px;
    top: 4px;
    display: flex;
    gap: 12px;
    margin: 0;
    padding: 0;
    list-style: none;
  }
  .legend i {
    display: inline-block;
    width: 12px;
    height: 8px;
    margin-right: 5px;
  }
  .outline {
    border: 1px solid var(--ink-soft);
  }
  .fill {
    background: var(--after);
  }
  .hatch {
    border: 1px solid var(--taken);
    background: repeating-linear-gradient(135deg, transparent 0 2px, var(--taken) 2px 3px);
  }
  .grain {
    border: 1px solid var(--after);
    background: radial-gradient(var(--after) 0.9px, transparent 1px) 0 0 / 4px 4px;
  }
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
  .hears {
    height: 0;
    border-top: 2px solid var(--key);
  }
  .threshold {
    position: absolute;
    height: 13px;
    margin-top: -6px;
    cursor: ns-resize;
    touch-action: none;
  }
  .threshold::before {
    content: '';
    position: absolute;
    left: 0;
    right: 0;
    top: 6px;
    border-top: 1.5px solid var(--ink);
  }
  .threshold span {
    position: absolute;
    right: 0;
    top: -4px;
    padding: 0 14px 0 6px;
    line-height: 20px;
    background: var(--ink);
    color: var(--plate);
    clip-path: polygon(0 0, calc(100% - 8px) 0, 100% 50%, calc(100% - 8px) 100%, 0 100%);
  }
  @container (width < 360px) {
    .legend {
      display: none;
    }
  }
</style>
