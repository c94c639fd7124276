<script lang="ts">
  /**
   * All lanes of a split in one picture: what enters and leaves it over frequency, dividers to drag, and for each lane
   * the level its detector hears, its threshold and level to drag, and what it takes, hatched from the top, live.
   */
  import { untrack } from 'svelte';
  import type { Lane } from '../api/client';
  import { clamp, format, tidy } from '../controls/value';
  import { between, coloursOf, line, pattern, prepare, rule, whenShown } from '../draw/canvas';
  import { pixel, valueAt, type Axis } from '../draw/scale';
  import { bandsState, mainStep, takenDb } from '../state/bands.svelte';
  import { setLane } from '../state/splits';
  import { spectrumState } from '../state/spectrum.svelte';
  import { workspace } from '../state/workspace.svelte';

  let canvas = $state<HTMLCanvasElement | null>(null);
  let box = $state.raw({ width: 0, height: 0 });
  let held = $state<string | null>(null);
  let moving = $state<number[] | null>(null);
  let gesture = '';
  let began = { y: 0, value: 0, x: 0, dividers: [] as number[] };

  const split = $derived(workspace.step?.lanes ? workspace.step : null);
  const lanes = $derived(split?.lanes ?? []);
  const byBands = $derived(split?.settings['by'] === 'bands');
  const dividers = $derived(moving ?? (byBands ? (split!.settings['dividers_hz'] as number[]) : []));
  const spectrum = $derived(byBands ? (spectrumState.found?.spectrum ?? null) : null);
  const TOP = 6;
  const LOW = -78;
  const xs = $derived<Axis>({ low: Math.log10(20), high: Math.log10(20000), from: 34, to: box.width - 14 });
  const ys = $derived<Axis>({ low: LOW, high: TOP, from: box.height - 20, to: 40 });
  const FREQUENCIES = [20, 50, 100, 200, 500, 1000, 2000, 5000, 10000, 20000];
  const LEVELS: Axis = $derived({ low: -24, high: 24, from: ys.from - 6, to: ys.to + 6 });
  const x = (hz: number) => pixel(Math.log10(clamp(hz, 20, 20000)), xs);
  const y = (db: number) => pixel(clamp(db, LOW, TOP), ys);
  /** Where each lane's column lies. */
  const columns = $derived.by(() => {
    if (byBands) {
      const edges = [xs.from, ...dividers.map(x), xs.to];
      return lanes.map((_, i) => [edges[i]!, edges[i + 1]!] as const);
    }
    const width = (xs.to - xs.from) / Math.max(1, lanes.length);
    return lanes.map((_, i) => [xs.from + i * width, xs.from + (i + 1) * width] as const);
  });
  const taken = $derived(lanes.map((lane) => takenDb(lane)));

  $effect(() => {
    void [workspace.study, spectrumState.fraction];
    if (workspace.study && split) {
      untrack(() => void bandsState.ask());
      if (byBands) untrack(() => void spectrumState.ask());
    }
  });

  function paint(): void {
    if (!canvas) return;
    const context = prepare(canvas);
    if (!context) return;
    const colours = coloursOf(canvas);
    context.textBaseline = 'middle';
    context.lineWidth = 1;
    if (byBands)
      for (const hz of FREQUENCIES) {
        context.strokeStyle = colours.line;
        rule(context, x(hz), ys.to, x(hz), ys.from);
        context.fillStyle = colours.soft;
        context.textAlign = 'center';
        context.fillText(hz >= 1000 ? `${hz / 1000}k` : String(hz), x(hz), box.height - 9);
      }
    for (let db = 0; db >= LOW; db -= 12) {
      context.strokeStyle = colours.line;
      rule(context, xs.from, y(db), xs.to, y(db));
      context.fillStyle = colours.soft;
      context.textAlign = 'right';
      context.fillText(String(db), xs.from - 5, y(db));
    }
    if (spectrum?.before_db.length) {
      const px = spectrum.frequency_hz.map(x);
      const place = (values: number[]) => values.map(y);
      between(context, px, place(spectrum.after_db), px.map(() => ys.from)); // prettier-ignore
      context.fillStyle = colours.after;
      context.globalAlpha = 0.3;
      context.fill();
      context.globalAlpha = 1;
      context.strokeStyle = colours.soft;
      line(context, px, place(spectrum.before_db));
    }
    lanes.forEach((lane, i) => {
      const [from, to] = columns[i]!;
      const depth = -taken[i]!;
      if (depth > 0.05) {
        context.fillStyle = pattern(context, 'hatch', colours.taken);
        context.fillRect(from + 1, y(0), to - from - 2, y(-depth) - y(0));
        context.strokeStyle = colours.taken;
        rule(context, from + 1, y(-depth), to - 1, y(-depth));
      }
      const heard = bandsState.of(lane)?.heard_db;
      if (heard) {
        const at = from + 9;
        context.strokeStyle = context.fillStyle = colours.key;
        context.globalAlpha = 0.45;
        context.fillRect(at - 3, y(heard[2]!), 7, Math.max(1, y(heard[0]!) - y(heard[2]!)));
        context.globalAlpha = 1;
        rule(context, at - 5, y(heard[1]!), at + 5, y(heard[1]!));
        rule(context, at - 3, y(heard[3]!), at + 3, y(heard[3]!));
        rule(context, at, y(heard[3]!), at, y(heard[2]!));
      }
    });
  }
  $effect(() => {
    void [spectrum, xs, ys, columns, taken, bandsState.found];
    paint();
  });
  $effect(() => {
    if (!canvas) return;
    return whenShown(canvas, () => {
      box = { width: canvas!.clientWidth, height: canvas!.clientHeight };
      paint();
    });
  });

  function hold(event: PointerEvent & { currentTarget: HTMLElement }, name: string, value: number): void {
    event.currentTarget.setPointerCapture(event.pointerId);
    event.stopPropagation();
    gesture = crypto.randomUUID();
    held = name;
    began = { y: event.clientY, value, x: event.clientX, dividers: [...dividers] };
  }
  function release(): void {
    held = null;
    moving = null;
  }

  function setDividers(wanted: number[]): void {
    const tidied = wanted.map((hz) => tidy(clamp(hz, 20, 20000), 'Hz'));
    if (tidied.some((hz, i) => i > 0 && hz < 1.1 * tidied[i - 1]!)) return;
    moving = held ? tidied : null;
    workspace.set(split!.id, { dividers_hz: tidied }, held ? gesture : null);
  }
  /** One divider, or with Shift all of them together. */
  function dragDivider(event: PointerEvent, index: number): void {
    if (held !== `divider ${index}`) return;
    const hz = 10 ** valueAt(event.clientX - canvas!.getBoundingClientRect().left, xs);
    const ratio = clamp(hz, 20, 20000) / began.dividers[index]!;
    if (event.shiftKey) setDividers(began.dividers.map((value) => value * ratio));
    else {
      const low = index ? began.dividers[index - 1]! * 1.11 : 20;
      const high = index < began.dividers.length - 1 ? began.dividers[index + 1]! / 1.11 : 20000;
      setDividers(began.dividers.map((value, i) => (i === index ? clamp(hz, low, high) : value)));
    }
  }
  function nudgeDivider(event: KeyboardEvent, index: number): void {
    const turn = { ArrowRight: 1, ArrowUp: 1, ArrowLeft: -1, ArrowDown: -1 }[event.key];
    if (turn) {
      const ratio = 2 ** ((turn * (event.shiftKey ? 1 : event.ctrlKey ? 6 : 2)) / 24);
      setDividers(dividers.map((hz, i) => (i === index || event.altKey ? hz * ratio : hz)));
    } else if (event.key === 'Delete' || event.key === 'Backspace') removeDivider(index);
    else return;
    event.preventDefault();
    event.stopPropagation();
  }
  const removeDivider = (index: number) =>
    void workspace.edit({ op: 'remove_divider', step_id: split!.id, index });
  function addDivider(event: MouseEvent): void {
    if (!byBands) return;
    const hz = 10 ** valueAt(event.clientX - canvas!.getBoundingClientRect().left, xs);
    void workspace.edit({ op: 'add_divider', step_id: split!.id, frequency_hz: tidy(hz, 'Hz') });
  }

  const thresholdOf = (lane: Lane) => {
    const value = mainStep(lane)?.settings['threshold_db'];
    return typeof value === 'number' ? value : null;
  };
  function dragThreshold(event: PointerEvent, lane: Lane): void {
    if (held !== `threshold ${lane.id}`) return;
    const step = mainStep(lane)!;
    const setting = workspace
      .processor(step.kind)!
      .settings.find((candidate) => candidate.name === 'threshold_db')!;
    const moved = valueAt(event.clientY, ys) - valueAt(began.y, ys);
    const wanted = clamp(began.value + moved, setting.minimum ?? -80, setting.maximum ?? 0);
    workspace.set(step.id, { threshold_db: tidy(wanted, 'dB') }, gesture);
  }
  function dragLevel(event: PointerEvent, lane: Lane): void {
    if (held !== `level ${lane.id}`) return;
    const moved = valueAt(event.clientY, LEVELS) - valueAt(began.y, LEVELS);
    setLane(workspace, lane, { level_db: tidy(clamp(began.value + moved, -24, 24), 'dB') }, gesture);
  }
  function nudgeLevel(event: KeyboardEvent, lane: Lane): void {
    const turn = { ArrowUp: 1, ArrowRight: 1, ArrowDown: -1, ArrowLeft: -1 }[event.key];
    if (!turn) return;
    const by = turn * (event.shiftKey ? 0.1 : event.ctrlKey ? 3 : 0.5);
    setLane(workspace, lane, { level_db: tidy(clamp(lane.level_db + by, -90, 24), 'dB') });
    event.preventDefault();
    event.stopPropagation();
  }
</script>

<figure
  class="bands"
  aria-label="All lanes in one picture"
  data-lanes={bandsState.found?.bands.lanes.length ?? 0}
  data-taken={taken.map((db) => db.toFixed(1)).join(' ')}
  ondblclick={addDivider}
>
  <canvas bind:this={canvas}></canvas>
  <span class="title"
    >dBFS{byBands ? ' over Hz' : ''}; hatched: taken; bars: level at the detector; wedges: lane level</span
  >
  {#if box.width && split}
    {#each lanes as lane, i (lane.id)}
      {@const [from, to] = columns[i]!}
      {@const threshold = thresholdOf(lane)}
      <div class="lane" class:pale={lane.mute} style:left="{from}px" style:width="{to - from}px">
        <span class="head">
          <button
            class="name"
            title={lane.name}
            onclick={() => workspace.choose(workspace.stripId, null, lane.id)}>{lane.name}</button
          >
          {#each [['S', 'solo', lane.solo], ['M', 'mute', lane.mute], ['B', 'bypass', lane.bypass]] as const as [letter, what, on] (what)}
            <button
              class="act"
              class:on
              aria-pressed={on}
              aria-label="{what} {lane.name} in the picture"
              onclick={() => setLane(workspace, lane, { [what]: !on })}>{letter}</button
            >
          {/each}
        </span>
      </div>
      {#if threshold !== null}
        <div
          class="threshold"
          class:held={held === `threshold ${lane.id}`}
          role="presentation"
          data-picture="threshold {lane.name}"
          style:left="{from + 2}px"
          style:width="{to - from - 4}px"
          style:top="{y(threshold)}px"
          title="Threshold of {lane.name}: drag"
          onpointerdown={(event) => hold(event, `threshold ${lane.id}`, threshold)}
          onpointermove={(event) => dragThreshold(event, lane)}
          onpointerup={release}
        >
          <span class="figure">{threshold.toFixed(1)}</span>
        </div>
      {/if}
      <div
        class="level"
        role="slider"
        tabindex="0"
        aria-label="Level of {lane.name}"
        aria-valuemin="-24"
        aria-valuemax="24"
        aria-valuenow={lane.level_db}
        aria-valuetext={format(lane.level_db, 'dB')}
        data-picture="level {lane.name}"
        title="Level of {lane.name}: {format(lane.level_db, 'dB')}"
        style:left="{to - 14}px"
        style:top="{ys.to}px"
        style:height="{ys.from - ys.to}px"
        onpointerdown={(event) => hold(event, `level ${lane.id}`, lane.level_db)}
        onpointermove={(event) => dragLevel(event, lane)}
        onpointerup={release}
        onkeydown={(event) => nudgeLevel(event, lane)}
        ondblclick={(event) => {
          event.stopPropagation();
          setLane(workspace, lane, { level_db: 0 });
        }}
      >
        <i class="zero" style:top="{pixel(0, LEVELS) - ys.to}px"></i>
        <i class="wedge" style:top="{pixel(clamp(lane.level_db, -24, 24), LEVELS) - ys.to}px"></i>
        {#if Math.abs(lane.level_db) > 0.05 || held === `level ${lane.id}`}
          <span class="figure" style:top="{pixel(clamp(lane.level_db, -24, 24), LEVELS) - ys.to}px"
            >{format(lane.level_db, 'dB').replace(' dB', '')}</span
          >
        {/if}
      </div>
    {/each}
    {#each dividers as hz, index (index)}
      <div
        class="divider"
        class:held={held === `divider ${index}`}
        role="slider"
        tabindex="0"
        aria-label="Divider {index + 1}"
        aria-valuemin="20"
        aria-valuemax="20000"
        aria-valuenow={hz}
        aria-valuetext={format(hz, 'Hz')}
        data-picture="divider {index + 1}"
        title="Drag; with Shift all dividers together; Del removes it"
        style:left="{x(hz)}px"
        style:top="{ys.to - 18}px"
        style:bottom="20px"
        onpointerdown={(event) => hold(event, `divider ${index}`, hz)}
        onpointermove={(event) => dragDivider(event, index)}
        onpointerup={release}
        onkeydown={(event) => nudgeDivider(event, index)}
        ondblclick={(event) => event.stopPropagation()}
      >
        {#if held === `divider ${index}`}<span class="figure">{format(hz, 'Hz')}</span>{/if}
      </div>
    {/each}
  {/if}
</figure>

<style>
  .bands {
    position: relative;
    margin: 0;
    height: 100%;
    min-width: 0;
    overflow: hidden;
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
    top: 2px;
    color: var(--ink-soft);
    font-size: 11px;
    line-height: 16px;
    white-space: nowrap;
  }
  .lane {
    position: absolute;
    top: 18px;
  }
  .pale {
    opacity: 0.5;
  }
  .head {
    display: flex;
    align-items: center;
    gap: 2px;
    padding: 0 3px;
    overflow: hidden;
  }
  .name {
    border: 0;
    padding: 0;
    font-weight: 650;
    font-size: 11px;
    line-height: 16px;
    min-width: 0;
    overflow: hidden;
    text-overflow: ellipsis;
    white-space: nowrap;
  }
  .threshold {
    position: absolute;
    height: 11px;
    margin-top: -5px;
    cursor: ns-resize;
    touch-action: none;
  }
  .threshold::before {
    content: '';
    position: absolute;
    left: 0;
    right: 0;
    top: 5px;
    border-top: 1.5px solid var(--ink);
  }
  .threshold span {
    position: absolute;
    right: 15px;
    top: -9px;
    font-size: 10.5px;
    line-height: 13px;
    padding: 0 2px;
    background: var(--plate);
    pointer-events: none;
  }
  .level {
    position: absolute;
    width: 12px;
    cursor: ns-resize;
    touch-action: none;
  }
  .level::before {
    content: '';
    position: absolute;
    left: 6px;
    top: 0;
    bottom: 0;
    border-left: 1px solid var(--line);
  }
  .zero {
    position: absolute;
    left: 3px;
    width: 7px;
    border-top: 1px solid var(--ink-soft);
  }
  .wedge {
    position: absolute;
    left: 2px;
    width: 9px;
    height: 9px;
    margin-top: -4px;
    background: var(--ink);
    clip-path: polygon(0 50%, 55% 0, 100% 0, 100% 100%, 55% 100%);
  }
  .level span {
    position: absolute;
    right: 12px;
    margin-top: -8px;
    font-size: 10.5px;
    line-height: 16px;
    padding: 0 2px;
    background: var(--plate);
  }
  .divider {
    position: absolute;
    width: 11px;
    margin-left: -5px;
    cursor: ew-resize;
    touch-action: none;
  }
  .divider::before {
    content: '';
    position: absolute;
    left: 5px;
    top: 0;
    bottom: 0;
    border-left: 1.5px solid var(--key);
  }
  .divider span {
    position: absolute;
    left: 9px;
    bottom: 4px;
    padding: 0 3px;
    background: var(--plate);
    color: var(--key);
    font-size: 11px;
    line-height: 15px;
    white-space: nowrap;
  }
</style>
