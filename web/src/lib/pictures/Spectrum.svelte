<script lang="ts">
  /** Level over frequency: before outlined, after filled, taken hatched; the key filter dashed; corners to drag. */
  import { untrack } from 'svelte';
  import Segments from '../controls/Segments.svelte';
  import { clamp, format, tidy } from '../controls/value';
  import { between, coloursOf, line, pattern, prepare, rule, whenShown } from '../draw/canvas';
  import { pixel, valueAt, type Axis } from '../draw/scale';
  import { spectrumState, type Fraction } from '../state/spectrum.svelte';
  import { workspace } from '../state/workspace.svelte';

  let canvas = $state<HTMLCanvasElement | null>(null);
  let box = $state.raw({ width: 0, height: 0 });
  let held = $state<string | null>(null);
  let gesture = '';

  const found = $derived(spectrumState.found);
  const spectrum = $derived(found?.spectrum ?? null);
  const settings = $derived(workspace.step?.settings ?? {});
  const corners = $derived.by(() => {
    const step = workspace.step;
    const processor = step ? workspace.processor(step.kind) : undefined;
    return (processor?.settings ?? []).filter(
      (setting) =>
        setting.unit === 'Hz' &&
        setting.type === 'number' &&
        Object.entries(setting.when).every(([name, values]) => values.includes(String(settings[name]))),
    );
  });
  const band = $derived.by(() => {
    const middle = Number(settings['frequency_hz']);
    if (!middle || settings['width_oct'] === undefined) return null;
    const reach = 2 ** (Number(settings['width_oct']) / 2);
    return String(settings['shape']).startsWith('band') ? [middle / reach, middle * reach] : [middle, 20000];
  });
  const at = $derived(
    found && spectrum && workspace.playing && spectrum.moving_before_db.length
      ? clamp(
          Math.round((workspace.position_s - found.start_s) / spectrum.hop_s),
          0,
          spectrum.moving_before_db.length - 1,
        )
      : null,
  );
  const before = $derived((at === null ? spectrum?.before_db : spectrum?.moving_before_db[at]) ?? []);
  const after = $derived((at === null ? spectrum?.after_db : spectrum?.moving_after_db[at]) ?? []);
  const top = $derived(
    Math.min(
      6,
      Math.ceil((Math.max(-60, ...(spectrum?.before_db ?? []), ...(spectrum?.after_db ?? [])) + 4) / 6) * 6,
    ),
  );
  const xs = $derived<Axis>({ low: Math.log10(20), high: Math.log10(20000), from: 38, to: box.width - 12 });
  const ys = $derived<Axis>({ low: top - 72, high: top, from: box.height - 22, to: 30 });
  const FREQUENCIES = [20, 50, 100, 200, 500, 1000, 2000, 5000, 10000, 20000];
  const x = (hz: number) => pixel(Math.log10(clamp(hz, 20, 20000)), xs);

  // A new study means new sound: ask for its spectrum too.
  $effect(() => {
    void [workspace.study, spectrumState.fraction, spectrumState.moving];
    // What is asked for is not what it hangs on: each edit makes another version.
    if (workspace.study) untrack(() => void spectrumState.ask());
  });

  function paint(): void {
    if (!canvas) return;
    const context = prepare(canvas);
    if (!context) return;
    const colours = coloursOf(canvas);
    context.textBaseline = 'middle';
    context.lineWidth = 1;
    for (const hz of FREQUENCIES) {
      context.strokeStyle = colours.line;
      rule(context, x(hz), ys.to, x(hz), ys.from);
      context.fillStyle = colours.soft;
      context.textAlign = 'center';
      context.fillText(hz >= 1000 ? `${hz / 1000}k` : String(hz), x(hz), box.height - 10);
    }
    for (let db = top; db >= ys.low; db -= 12) {
      const y = pixel(db, ys);
      context.strokeStyle = colours.line;
      rule(context, xs.from, y, xs.to, y);
      context.fillStyle = colours.soft;
      context.textAlign = 'right';
      context.fillText(String(db), xs.from - 5, y);
    }
    if (!spectrum || !before.length) return;
    context.save();
    context.beginPath();
    context.rect(xs.from, ys.to, xs.to - xs.from, ys.from - ys.to);
    context.clip();
    const px = spectrum.frequency_hz.map(x);
    const place = (values: number[]) => values.map((db) => pixel(Math.max(db, ys.low), ys));
    const [pb, pa] = [place(before), place(after)];
    const floor = px.map(() => ys.from);
    between(context, px, pa, floor);
    context.fillStyle = colours.after;
    context.globalAlpha = 0.85;
    context.fill();
    context.globalAlpha = 1;
    between(
      context,
      px,
      pb.map((y, i) => Math.min(y, pa[i]!)),
      pa,
    );
    context.fillStyle = pattern(context, 'hatch', colours.taken);
    context.fill();
    between(
      context,
      px,
      pa.map((y, i) => Math.min(y, pb[i]!)),
      pb,
    );
    context.fillStyle = colours.plate;
    context.fill();
    context.fillStyle = pattern(context, 'grain', colours.after);
    context.fill();
    context.strokeStyle = colours.soft;
    line(context, px, pb);
    context.strokeStyle = colours.taken;
    line(context, px, place(spectrum.taken_db));
    const under = (values: number[]) =>
      values.map((db) => pixel(Math.max(top + Math.min(db, 0), ys.low), ys));
    if (spectrum.cut_db && corners.length && settings['range_db'] !== undefined) {
      between(context, px, px.map(() => ys.to), under(spectrum.cut_db)); // prettier-ignore
      context.fillStyle = pattern(context, 'hatch', colours.taken);
      context.fill();
    }
    if (spectrum.key_db) {
      context.strokeStyle = colours.key;
      context.lineWidth = 1.5;
      context.setLineDash([5, 4]);
      line(context, px, under(spectrum.key_db));
      context.setLineDash([]);
    }
    context.restore();
  }

  $effect(() => {
    void [spectrum, before, after, xs, ys, corners];
    paint();
  });
  $effect(() => {
    if (!canvas) return;
    return whenShown(canvas, () => {
      box = { width: canvas!.clientWidth, height: canvas!.clientHeight };
      paint();
    });
  });

  function press(event: PointerEvent & { currentTarget: HTMLElement }, name: string): void {
    event.currentTarget.setPointerCapture(event.pointerId);
    gesture = crypto.randomUUID();
    held = name;
  }
  function move(event: PointerEvent): void {
    if (!held || !workspace.step) return;
    const setting = corners.find((corner) => corner.name === held)!;
    const hz = 10 ** valueAt(event.clientX - canvas!.getBoundingClientRect().left, xs);
    const wanted = tidy(clamp(hz, setting.minimum ?? 20, setting.maximum ?? 20000), 'Hz');
    workspace.set(workspace.step.id, { [held]: wanted }, gesture);
  }
  function widen(event: WheelEvent): void {
    if (!workspace.step || settings['width_oct'] === undefined) return;
    event.preventDefault();
    const width = clamp(Number(settings['width_oct']) * (event.deltaY < 0 ? 1.1 : 1 / 1.1), 0.1, 4);
    workspace.set(
      workspace.step.id,
      { width_oct: tidy(width, 'oct') },
      `width ${Math.floor(Date.now() / 1500)}`,
    );
  }
  const wheel = (element: HTMLElement) => {
    element.addEventListener('wheel', widen, { passive: false });
    return () => element.removeEventListener('wheel', widen);
  };
</script>

<figure
  class="spectrum"
  aria-label="Level over frequency before and after"
  data-pictures={spectrum?.moving_before_db.length ?? 0}
>
  <canvas bind:this={canvas}></canvas>
  <span class="title">dB per 1/{spectrumState.fraction} octave over Hz</span>
  <div class="ways">
    <Segments
      label="Smoothing"
      value={String(spectrumState.fraction)}
      change={(value) => (spectrumState.fraction = Number(value) as Fraction)}
      options={[
        ['3', '1/3'],
        ['6', '1/6'],
        ['12', '1/12'],
        ['24', '1/24'],
      ]}
    />
    <Segments
      label="Over time"
      value={spectrumState.moving ? 'moving' : 'average'}
      change={(value) => (spectrumState.moving = value === 'moving')}
      options={[
        ['average', 'Average', 'Over the passage'],
        ['moving', 'Moving', 'At the playhead'],
      ]}
    />
  </div>
  {#if band && box.width}
    <div
      class="band"
      role="presentation"
      data-picture="band"
      title="Drag to move the whole band; wheel for its width"
      style:left="{x(band[0]!)}px"
      style:width="{x(band[1]!) - x(band[0]!)}px"
      {@attach wheel}
      onpointerdown={(event) => press(event, 'frequency_hz')}
      onpointermove={move}
      onpointerup={() => (held = null)}
    ></div>
  {/if}
  {#if box.width && !String(settings['band1_kind'] ?? '')}
    {#each corners as corner, row (corner.name)}
      <div
        class="corner"
        class:held={held === corner.name}
        role="presentation"
        data-picture={corner.name}
        style:left="{x(Number(settings[corner.name]))}px"
        onpointerdown={(event) => press(event, corner.name)}
        onpointermove={move}
        onpointerup={() => (held = null)}
      >
        <span
          class="figure"
          class:left={x(Number(settings[corner.name])) > box.width - 130}
          style:top="{52 + row * 18}px">{corner.label} {format(Number(settings[corner.name]), 'Hz')}</span
        >
      </div>
    {/each}
  {/if}
</figure>

<style>
  .spectrum {
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
  .title {
    position: absolute;
    left: 40px;
    top: 31px;
    padding: 0 4px;
    background: var(--plate);
    color: var(--ink-soft);
    font-size: 12px;
    line-height: 16px;
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
  .band {
    position: absolute;
    top: 30px;
    bottom: 22px;
    cursor: ew-resize;
    touch-action: none;
    background: color-mix(in srgb, var(--key) 12%, transparent);
  }
  .corner {
    position: absolute;
    top: 30px;
    bottom: 22px;
    width: 11px;
    margin-left: -5px;
    cursor: ew-resize;
    touch-action: none;
  }
  .corner::before {
    content: '';
    position: absolute;
    left: 5px;
    top: 0;
    bottom: 0;
    border-left: 1.5px solid var(--key);
  }
  .corner span {
    position: absolute;
    top: 0;
    left: 10px;
    padding: 0 4px;
    white-space: nowrap;
    font-size: 11px;
    line-height: 16px;
    background: var(--plate);
    color: var(--key);
    pointer-events: none;
    margin-top: -30px;
  }
  .corner .left {
    left: auto;
    right: 10px;
  }
  @container (width < 300px) {
    .ways > :global(:first-child) {
      display: none;
    }
  }
</style>
