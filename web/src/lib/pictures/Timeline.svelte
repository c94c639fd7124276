<script lang="ts">
  import { untrack } from 'svelte';
  /** The whole strip, before and after, under its sections; drag to set the passage, click to set the playhead. */
  import { between, coloursOf, line, pattern, prepare, whenShown } from '../draw/canvas';
  import { barsAndBeats, toBeat } from '../draw/scale';
  import { workspace } from '../state/workspace.svelte';
  import Playhead from './Playhead.svelte';

  let canvas = $state<HTMLCanvasElement | null>(null);
  let drag = $state<{ from: number; to: number } | null>(null);

  const overview = $derived(workspace.overview);
  const length = $derived(workspace.version?.length_s ?? 1);
  const sections = $derived(workspace.session?.sections ?? []);
  const percent = (at: number) => `${(100 * at) / length}%`;
  const passage = $derived(
    drag ? sorted(drag) : ([workspace.passage.start_s, workspace.passage.end_s] as const),
  );

  function sorted(span: { from: number; to: number }): readonly [number, number] {
    return [Math.min(span.from, span.to), Math.max(span.from, span.to)];
  }

  function paint(): void {
    if (!canvas) return;
    const context = prepare(canvas);
    if (!context || !overview) return;
    const colours = coloursOf(canvas);
    const [width, height] = [canvas.clientWidth, canvas.clientHeight];
    const middle = height / 2;
    const { before_low, before_high, after_low, after_high } = overview;
    const largest = Math.max(
      0.05,
      ...before_high,
      ...after_high,
      ...before_low.map(Math.abs),
      ...after_low.map(Math.abs),
    );
    const xs = before_low.map((_, i) => ((i + 0.5) / before_low.length) * width);
    const ys = (values: number[]) => values.map((v) => middle - (v / largest) * (middle - 3));
    const [bl, bh, al, ah] = [ys(before_low), ys(before_high), ys(after_low), ys(after_high)];
    between(
      context,
      xs,
      bh.map((y, i) => Math.min(y, ah[i]!)),
      bl.map((y, i) => Math.max(y, al[i]!)),
    );
    context.fillStyle = pattern(context, 'hatch', colours.taken);
    context.fill();
    between(context, xs, ah, al);
    context.fillStyle = colours.after;
    context.fill();
    context.strokeStyle = colours.soft;
    line(context, xs, bh);
    line(context, xs, bl);
  }
  $effect(() => {
    void overview;
    paint();
  });
  $effect(() => (canvas ? whenShown(canvas, paint) : undefined));
  $effect(() => {
    workspace.measuringScope.showsOverview = true;
    if (!untrack(() => workspace.overview)) workspace.measure();
    return () => (workspace.measuringScope.showsOverview = false);
  });

  function at(event: PointerEvent): number {
    const box = (event.currentTarget as HTMLElement).getBoundingClientRect();
    return Math.min(Math.max((event.clientX - box.left) / box.width, 0), 1) * length;
  }
  function name(start: number, end: number): string {
    const { tempo_bpm, beats_in_bar } = workspace.session!;
    const bar = (t: number) => barsAndBeats(t, tempo_bpm, beats_in_bar).replace(/\.\d+$/, '');
    return `Bars ${bar(start)} to ${bar(end)}`;
  }
  function release(): void {
    if (!drag || !workspace.session) return;
    const [from, to] = sorted(drag);
    drag = null;
    if (to - from < length * 0.004) {
      workspace.seek(from);
      return;
    }
    const start_s = toBeat(from, workspace.session.tempo_bpm);
    const end_s = Math.max(
      toBeat(to, workspace.session.tempo_bpm),
      start_s + 60 / workspace.session.tempo_bpm,
    );
    workspace.setPassage({ start_s, end_s, name: name(start_s, end_s) });
  }
</script>

<div class="timeline">
  <div
    class="sound"
    role="presentation"
    data-picture="timeline"
    onpointerdown={(event) => {
      event.currentTarget.setPointerCapture(event.pointerId);
      drag = { from: at(event), to: at(event) };
    }}
    onpointermove={(event) => drag && (drag.to = at(event))}
    onpointerup={release}
  >
    <i class="passage" style:left={percent(passage[0])} style:width={percent(passage[1] - passage[0])}></i>
    <canvas bind:this={canvas} aria-busy={workspace.measuringScope.overviewStale}></canvas>
    <Playhead start_s={0} end_s={length} marked />
  </div>
  {#each sections as section (section.id)}
    <button
      class="section"
      class:chosen={workspace.passage.start_s === section.start_s &&
        workspace.passage.end_s === section.end_s}
      style:left={percent(section.start_s)}
      style:max-width={percent(section.end_s - section.start_s)}
      title="Listen to {section.name}"
      onclick={() =>
        workspace.setPassage({ start_s: section.start_s, end_s: section.end_s, name: section.name })}
    >
      {section.name}
    </button>
  {/each}
  {#if !overview}<p class="soft wait">Drawing {workspace.strip?.name ?? ''} ...</p>{/if}
</div>

<style>
  .timeline {
    position: relative;
    height: 100%;
    overflow: hidden;
    background: var(--plate);
  }
  .sound {
    position: absolute;
    inset: 0;
    cursor: text;
    touch-action: none;
  }
  canvas {
    position: absolute;
    inset: 20px 0 0;
    width: 100%;
    height: calc(100% - 20px);
  }
  .section {
    position: absolute;
    top: 0;
    height: 100%;
    padding: 0 6px;
    border: 0;
    border-left: 1px solid var(--line);
    display: flex;
    align-items: flex-start;
    line-height: 20px;
    font-size: 12px;
    color: var(--ink-soft);
    white-space: nowrap;
    overflow: hidden;
    height: 20px;
  }
  .section::after {
    content: '';
  }
  .chosen {
    color: var(--ink);
    font-weight: 650;
  }
  .passage {
    position: absolute;
    top: 0;
    bottom: 0;
    background: color-mix(in srgb, var(--after) 12%, transparent);
    border: 1px solid color-mix(in srgb, var(--after) 40%, transparent);
    border-width: 0 1px;
  }
  .wait {
    position: absolute;
    left: 8px;
    bottom: 4px;
    margin: 0;
    font-size: 12px;
    pointer-events: none;
  }
</style>
