<script lang="ts">
  /** Output level against input level, with the levels at the detector as a histogram along the input axis. */
  import { between, coloursOf, line, pattern, prepare, rule, whenShown } from '../draw/canvas';
  import { pixel, valueAt, type Axis } from '../draw/scale';
  import { clamp } from '../controls/value';
  import { frames } from '../draw/frames';
  import { workspace } from '../state/workspace.svelte';

  let canvas = $state<HTMLCanvasElement | null>(null);
  let box = $state.raw({ width: 0, height: 0 });
  let gesture = '';
  let held: 'aim' | 'ratio' | number | null = null;
  let dragged = $state<[number, number][] | null>(null);

  const curve = $derived(workspace.study?.curve ?? null);
  const settings = $derived(workspace.step?.settings ?? {});
  const TICKS = [-84, -72, -60, -48, -36, -24, -12, 0];
  /** The setting that a drag along the input axis moves. */
  const aim = $derived(['threshold_db', 'target_db', 'ceiling_db'].find((name) => name in settings) ?? null);
  /** How much higher a ceiling lies than the input that reaches it. */
  const gained = $derived(
    aim === 'ceiling_db' ? Number(settings['gain_db'] ?? settings['drive_db'] ?? 0) : 0,
  );
  const points = $derived(dragged ?? (settings['points'] as [number, number][] | undefined) ?? []);
  const low = $derived(points.length || Number(settings[aim ?? ''] ?? 0) < -42 ? -90 : -54);
  const HISTOGRAM = 30;
  const xs = $derived<Axis>({ low, high: 3, from: 34, to: box.width - 10 });
  const ys = $derived<Axis>({ low, high: 3, from: box.height - 24 - HISTOGRAM, to: 26 });

  function outputAt(input: number): number {
    if (!curve) return input;
    const at = clamp((input - curve.input_db[0]!) / 0.5, 0, curve.input_db.length - 1);
    return curve.output_db[Math.round(at)]!;
  }

  /** The level that the detector hears at this moment, on the curve. */
  function point(element: HTMLElement): () => void {
    const place = () => {
      const level = workspace.live?.detector_db ?? -160;
      const seen = curve !== null && level > xs.low;
      element.style.visibility = seen ? 'visible' : 'hidden';
      if (!seen) return;
      const [x, y] = [pixel(Math.min(level, xs.high), xs), pixel(Math.max(outputAt(level), ys.low), ys)];
      element.style.transform = `translate(${x.toFixed(1)}px, ${y.toFixed(1)}px)`;
    };
    place();
    return frames.add(place);
  }

  function paint(): void {
    if (!canvas) return;
    const context = prepare(canvas);
    if (!context || !curve) return;
    const colours = coloursOf(canvas);
    context.textBaseline = 'middle';
    for (const tick of TICKS.filter((value) => value > low && (low > -60 || value % 24 === 0))) {
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
    const threshold = aim ? Number(settings[aim]) - gained : xs.low;
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
    if (aim) rule(context, x, base - HISTOGRAM, x, base);
  }

  $effect(() => {
    void [curve, settings, xs, ys, aim, gained];
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
    if (points.length) {
      addPoint(event);
      return;
    }
    if (!aim) return;
    held = 'ratio' in settings && x > pixel(Number(settings[aim]), xs) + 24 ? 'ratio' : 'aim';
    move(event);
  }
  function move(event: PointerEvent): void {
    if (!held || !workspace.step) return;
    const bounds = canvas!.getBoundingClientRect();
    const input = valueAt(event.clientX - bounds.left, xs);
    if (typeof held === 'number') {
      movePoint(held, input, valueAt(event.clientY - bounds.top, ys));
      return;
    }
    if (held === 'aim') {
      const setting = workspace.processor(workspace.step.kind)?.settings.find((other) => other.name === aim);
      const wanted = clamp(input + gained, setting?.minimum ?? -60, setting?.maximum ?? 0);
      workspace.set(workspace.step.id, { [aim!]: Math.round(wanted * 10) / 10 }, gesture);
      return;
    }
    const threshold = Number(settings['threshold_db']);
    const output = valueAt(event.clientY - bounds.top, ys);
    const ratio = clamp((input - threshold) / Math.max(output - threshold, 0.01), 1, 50);
    workspace.set(workspace.step.id, { ratio: Number(ratio.toPrecision(3)) }, gesture);
  }

  // ---- points of a free curve ----------------------------------------------------------------------------------------
  const LEAST_GAP_DB = 0.5;
  const tenth = (value: number) => Math.round(value * 10) / 10;

  function movePoint(at: number, input: number, output: number): void {
    const from = at > 0 ? points[at - 1]![0] + LEAST_GAP_DB : -90;
    const to = at < points.length - 1 ? points[at + 1]![0] - LEAST_GAP_DB : 12;
    const next = points.map((point, i) =>
      i === at
        ? ([clamp(tenth(input), from, to), clamp(tenth(output), -120, 12)] as [number, number])
        : point,
    );
    dragged = next;
    workspace.set(workspace.step!.id, { points: next }, gesture);
  }
  /** A press beside the points adds one there, to be dragged on. */
  function addPoint(event: PointerEvent): void {
    if (points.length > 15) return;
    const bounds = canvas!.getBoundingClientRect();
    const input = tenth(clamp(valueAt(event.clientX - bounds.left, xs), -90, 12));
    if (points.some((point) => Math.abs(point[0] - input) < LEAST_GAP_DB)) return;
    const at = points.filter((point) => point[0] < input).length;
    dragged = [
      ...points.slice(0, at),
      [input, tenth(valueAt(event.clientY - bounds.top, ys))],
      ...points.slice(at),
    ];
    held = at;
    workspace.set(workspace.step!.id, { points: dragged }, gesture);
  }
  function takeOut(at: number): void {
    if (points.length > 2) workspace.set(workspace.step!.id, { points: points.filter((_, i) => i !== at) });
  }
  const release = () => {
    held = null;
    dragged = null;
  };
</script>

<figure class="curve" aria-label="Output level against input level, with the levels at the detector">
  <canvas
    bind:this={canvas}
    data-picture="curve"
    onpointerdown={press}
    onpointermove={move}
    onpointerup={release}
  ></canvas>
  {#each points as point, at (at)}
    <button
      class="point"
      tabindex="-1"
      aria-label="Point {at + 1}"
      data-picture="point{at}"
      title="Drag; double-click to take it out"
      style:left="{pixel(clamp(point[0], xs.low, xs.high), xs)}px"
      style:top="{pixel(clamp(point[1], ys.low, ys.high), ys)}px"
      ondblclick={() => takeOut(at)}
      onpointerdown={(event) => {
        event.currentTarget.setPointerCapture(event.pointerId);
        gesture = crypto.randomUUID();
        held = at;
      }}
      onpointermove={move}
      onpointerup={release}
    ></button>
  {/each}
  <span class="title">{workspace.step?.key ? 'Against the key, dB' : 'Out against in, dB'}</span>
  <i class="live" {@attach point}></i>
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
  .point {
    position: absolute;
    width: 11px;
    height: 11px;
    margin: -5px 0 0 -5px;
    padding: 0;
    background: var(--plate);
    border: 1.5px solid var(--ink);
    transform: rotate(45deg);
    touch-action: none;
    cursor: move;
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
