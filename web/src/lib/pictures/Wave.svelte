<script lang="ts">
  /** The waveform with the ceiling across it: before outlined, after filled, what was cut hatched and marked below. */
  import Segments from '../controls/Segments.svelte';
  import { clamp, format } from '../controls/value';
  import { between, coloursOf, line, pattern, prepare, rule, whenShown } from '../draw/canvas';
  import { pixel, valueAt, type Axis } from '../draw/scale';
  import { spanText } from '../draw/time';
  import { zooming, zoomToHit } from '../draw/zoom';
  import { workspace } from '../state/workspace.svelte';
  import Playhead from './Playhead.svelte';

  let canvas = $state<HTMLCanvasElement | null>(null);
  let box = $state.raw({ width: 0, height: 0 });
  let sides = $state<'two' | 'one'>('two');
  let time = $state<'still' | 'scrolling'>('still');
  let dragged = $state<number | null>(null);
  let gesture = '';

  const LEFT = 40;
  const RIGHT = 8;
  const MARKS = 10;
  const WINDOW_S = 2;
  const COLUMNS = 4096;
  const study = $derived(workspace.study);
  const through = $derived(10 ** ((study?.linear_gain_db ?? 0) / 20));
  const ceiling = $derived(workspace.step?.settings['ceiling_db']);
  const roof_db = $derived(
    dragged ??
      (study?.output_ceiling_db === null || study?.output_ceiling_db === undefined
        ? null
        : study.output_ceiling_db),
  );
  const roof = $derived(roof_db === null ? null : 10 ** (roof_db / 20));

  /** The columns drawn, as places in the study's arrays. */
  const shown = $derived.by<[number, number]>(() => {
    const count = study?.bite.before_low.length ?? 0;
    if (!study || time === 'still' || !workspace.playing) return [0, count];
    const each = (study.bite_end_s - study.bite_start_s) / count;
    const wide = Math.min(count, Math.round(WINDOW_S / each));
    const head = Math.round((workspace.position_s - study.bite_start_s) / each);
    const from = clamp(Math.round(head - 0.75 * wide), 0, count - wide);
    return [from, from + wide];
  });
  const wave = $derived.by(() => {
    if (!study) return null;
    const { before_low, before_high, after_low, after_high, touched } = study.bite;
    const cut = (values: number[]) => values.slice(...shown);
    const folded = (low: number[], high: number[]) => cut(low).map((v, i) => Math.max(-v, cut(high)[i]!));
    const two = sides === 'two';
    const highs = cut(before_high);
    const after_highs = cut(after_high);
    return {
      high: (two ? highs : folded(before_low, before_high)).map((v) => v * through),
      low: two ? cut(before_low).map((v) => v * through) : highs.map(() => 0),
      afterHigh: two ? after_highs : folded(after_low, after_high),
      afterLow: two ? cut(after_low) : after_highs.map(() => 0),
      touched: cut(touched),
    };
  });
  const most = $derived(
    Math.max(0.05, (roof ?? 0) * 1.15, ...(wave?.high ?? []), ...(wave?.low ?? []).map((v) => -v)) * 1.04,
  );
  const ys = $derived<Axis>({
    low: sides === 'two' ? -most : 0,
    high: most,
    from: box.height - 22 - MARKS,
    to: 28,
  });
  const span = $derived.by<[number, number]>(() => {
    if (!study) return [0, 1];
    const each = (study.bite_end_s - study.bite_start_s) / study.bite.before_low.length;
    return [study.bite_start_s + shown[0] * each, study.bite_start_s + shown[1] * each];
  });
  const db = (v: number) => 20 * Math.log10(v);

  function paint(): void {
    if (!canvas) return;
    const context = prepare(canvas);
    if (!context) return;
    const colours = coloursOf(canvas);
    const right = box.width - RIGHT;
    context.textBaseline = 'middle';
    context.textAlign = 'right';
    context.lineWidth = 1;
    let last = Infinity;
    for (const tick of [0, -6, -12, -18, -24, -36]) {
      const v = 10 ** (tick / 20);
      if (v > most) continue;
      const y = pixel(v, ys);
      if (Math.abs(y - last) < 13 || (tick < 0 && Math.abs(y - pixel(0, ys)) < 10)) continue;
      last = y;
      for (const at of sides === 'two' ? [y, pixel(-v, ys)] : [y]) {
        context.strokeStyle = colours.line;
        rule(context, LEFT, at, right, at);
        context.fillStyle = colours.soft;
        context.fillText(String(tick), LEFT - 6, at);
      }
    }
    context.strokeStyle = colours.soft;
    rule(context, LEFT, pixel(0, ys), right, pixel(0, ys));
    if (!wave) return;
    const xs = wave.high.map((_, i) => LEFT + ((i + 0.5) / wave.high.length) * (right - LEFT));
    const ps = (values: number[]) => values.map((v) => pixel(v, ys));
    const [high, low, afterHigh, afterLow] = [
      ps(wave.high),
      ps(wave.low),
      ps(wave.afterHigh),
      ps(wave.afterLow),
    ];
    between(context, xs, afterHigh, afterLow);
    context.fillStyle = colours.after;
    context.fill();
    context.fillStyle = pattern(context, 'hatch', colours.taken);
    between(context, xs, high.map((y, i) => Math.min(y, afterHigh[i]!)), afterHigh); // prettier-ignore
    context.fill();
    between(context, xs, afterLow, low.map((y, i) => Math.max(y, afterLow[i]!))); // prettier-ignore
    context.fill();
    context.strokeStyle = colours.soft;
    line(context, xs, high);
    if (sides === 'two') line(context, xs, low);
    // Below, a mark wherever something was cut.
    const base = ys.from + 4;
    context.fillStyle = colours.taken;
    wave.touched.forEach((v, i) => {
      if (v > 2e-4) context.fillRect(xs[i]! - 0.5, base, Math.max(1, (right - LEFT) / xs.length), MARKS - 3);
    });
  }

  $effect(() => {
    void [wave, ys, roof];
    paint();
  });
  $effect(() => {
    if (!canvas) return;
    return whenShown(canvas, () => {
      box = { width: canvas!.clientWidth, height: canvas!.clientHeight };
      paint();
    });
  });
  $effect(() => {
    if (box.width) workspace.setColumns(time === 'scrolling' ? COLUMNS : box.width - LEFT - RIGHT);
  });

  function move(event: PointerEvent): void {
    if (dragged === null || !workspace.step || typeof ceiling !== 'number') return;
    const y = event.clientY - canvas!.getBoundingClientRect().top;
    const wanted = db(Math.max(Math.abs(valueAt(y, ys)), 1e-3));
    const offset = (study?.output_ceiling_db ?? ceiling) - ceiling;
    const kept = clamp(Math.round((wanted - offset) * 10) / 10, -36, 0);
    dragged = kept + offset;
    workspace.set(workspace.step.id, { ceiling_db: kept }, gesture);
  }
</script>

<figure
  class="wave"
  {@attach zooming(LEFT, RIGHT)}
  ondblclick={() => workspace.setZoom(0, 1)}
  aria-label="Waveform before and after, with what was cut"
  data-touched={wave?.touched.filter((v) => v > 2e-4).length ?? 0}
>
  <canvas bind:this={canvas}></canvas>
  <span class="title">Waveform, dBFS</span>
  <div class="ways">
    <Segments
      label="Sides"
      value={sides}
      change={(value) => (sides = value)}
      options={[
        ['two', 'Two-sided'],
        ['one', 'Absolute', 'Magnitudes, one side only'],
      ]}
    />
    <Segments
      label="Time"
      value={time}
      change={(value) => (time = value)}
      options={[
        ['still', 'Still'],
        ['scrolling', 'Scrolling', 'Two seconds around the playhead'],
      ]}
    />
    <button
      class="button"
      title="Zoom to the loudest hit; double-click the picture for all"
      onclick={zoomToHit}>One hit</button
    >
  </div>
  {#if study}<span class="note figure">{spanText(...span)}</span>{/if}
  <span class="note cut">cut</span>
  <Playhead start_s={span[0]} end_s={span[1]} left={LEFT} right={RIGHT} top={28} bottom={18} />
  {#if roof !== null && box.height && typeof ceiling === 'number'}
    {#each sides === 'two' ? [1, -1] : [1] as side (side)}
      <div
        class="roof"
        data-picture={side > 0 ? 'ceiling' : 'ceiling below'}
        role="slider"
        tabindex="-1"
        aria-label="Ceiling in the picture"
        aria-valuenow={roof_db}
        aria-valuetext={format(roof_db ?? 0, 'dB')}
        style:top="{pixel(side * Math.min(roof, most), ys)}px"
        style:left="{LEFT}px"
        style:right="{RIGHT}px"
        onpointerdown={(event) => {
          event.currentTarget.setPointerCapture(event.pointerId);
          gesture = crypto.randomUUID();
          dragged = roof_db;
        }}
        onpointermove={move}
        onpointerup={() => (dragged = null)}
      >
        {#if side > 0}<span class="figure">{format(roof_db ?? 0, 'dB')}</span>{/if}
      </div>
    {/each}
  {/if}
</figure>

<style>
  .wave {
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
  .note {
    right: 8px;
    bottom: 2px;
  }
  .cut {
    right: auto;
    left: 8px;
    bottom: 16px;
  }
  .ways {
    position: absolute;
    right: 12px;
    top: 2px;
    display: flex;
    gap: 8px;
    z-index: 2;
  }
  .ways :global(button) {
    height: 20px;
    line-height: 18px;
    padding: 0 6px;
    font-size: 12px;
  }
  .roof {
    position: absolute;
    height: 13px;
    margin-top: -6px;
    cursor: ns-resize;
    touch-action: none;
  }
  .roof::before {
    content: '';
    position: absolute;
    left: 0;
    right: 0;
    top: 6px;
    border-top: 1.5px solid var(--ink);
  }
  .roof span {
    position: absolute;
    right: 0;
    top: -4px;
    padding: 0 14px 0 6px;
    line-height: 20px;
    background: var(--ink);
    color: var(--plate);
    clip-path: polygon(0 0, calc(100% - 8px) 0, 100% 50%, calc(100% - 8px) 100%, 0 100%);
  }
  @container (width < 430px) {
    .title {
      display: none;
    }
  }
  @container (width < 320px) {
    .ways > :global(:nth-child(2)) {
      display: none;
    }
  }
</style>
