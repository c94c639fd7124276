<script lang="ts">
  /**
   * The strip's waveform before and after, under bars and sections. Click sets the playhead, drag sets the passage; in the row of the
   * sections drag makes one. The wheel zooms, with Shift it scrolls.
   */
  import { toolbar } from '../controls/toolbar';
  import { untrack } from 'svelte';
  import { whenShown } from '../draw/canvas';
  import { barsAndBeats } from '../draw/grid';
  import { wheeled } from '../draw/wheel';
  import * as timeline from '../state/timeline.svelte';
  import { view } from '../state/timeline.svelte';
  import { automation } from '../state/automation.svelte';
  import { workspace } from '../state/workspace.svelte';
  import { ruler, shapesOf } from './geometry/timeline';
  import Layer from './Layer.svelte';
  import Playhead from './Playhead.svelte';
  import SectionRow from './SectionRow.svelte';
  import StartHandle from './StartHandle.svelte';

  let { sections: openSections }: { sections: () => void } = $props();
  /** Less than so many pixels is a click. */
  const CLICK = 4;

  let lane = $state<HTMLElement | null>(null);
  let box = $state.raw({ width: 0, height: 0 });
  let shownAnew = $state(0);
  let drag = $state<{ from: number; to: number; x: number; moved: boolean } | null>(null);
  const overview = $derived(workspace.measuring.overview);
  const length = $derived(workspace.version?.length_s ?? 1);
  const from_s = $derived(view.span[0]);
  const to_s = $derived(view.span[1]);
  const percent = (at: number) => (100 * (at - from_s)) / (to_s - from_s);
  const passage = $derived(
    drag?.moved
      ? sorted(drag)
      : ([workspace.listening.passage.start_s, workspace.listening.passage.end_s] as const),
  );
  function sorted(span: { from: number; to: number }): readonly [number, number] {
    return [Math.min(span.from, span.to), Math.max(span.from, span.to)];
  }

  const span = $derived({ from_s, to_s });
  const bars = $derived(ruler(span, workspace.grid, box));
  const shapes = $derived(overview && box.width ? shapesOf(overview, length, span, box) : []);

  $effect(() => {
    const element = lane;
    if (!element) return;
    return whenShown(element, () => {
      box = { width: element.clientWidth, height: element.clientHeight };
      shownAnew += 1;
    });
  });
  $effect(() => {
    workspace.measuring.showsOverview = true;
    // Untracked: otherwise every edit until the overview is there would be measured at once.
    untrack(() => {
      if (!workspace.measuring.overview) workspace.measure();
    });
    return () => (workspace.measuring.showsOverview = false);
  });

  function at(event: PointerEvent | WheelEvent, element: Element): number {
    const box = element.getBoundingClientRect();
    const share = Math.min(Math.max((event.clientX - box.left) / box.width, 0), 1);
    return from_s + share * (to_s - from_s);
  }

  function release(): void {
    if (!drag) return;
    const { from, to, moved } = drag;
    drag = null;
    if (moved) timeline.setPassage(from, to);
    else workspace.listening.seek(from);
  }

  const wheel = wheeled((event, element: HTMLElement) => {
    const sideways = event.shiftKey ? event.deltaY || event.deltaX : event.deltaX;
    if (Math.abs(sideways) > Math.abs(event.shiftKey ? 0 : event.deltaY))
      timeline.scroll((Math.sign(sideways) * (to_s - from_s)) / 10);
    else timeline.zoom(event.deltaY < 0 ? 0.8 : 1.25, at(event, element));
  });

  const says = $derived(
    `Waveform of ${workspace.selection.strip?.name ?? ''} from bar ${barsAndBeats(from_s, workspace.grid)} to ` +
      `${barsAndBeats(to_s, workspace.grid)}; the passage is ${workspace.listening.passage.name}.`,
  );
</script>

<div class="timeline">
  <div class="tools" role="toolbar" aria-label="Timeline" {@attach toolbar}>
    <button class="button" aria-label="Zoom out" title="Zoom out (-)" onclick={() => timeline.zoom(2)}
      >&minus;</button
    >
    <button class="button" aria-label="Zoom in" title="Zoom in (+)" onclick={() => timeline.zoom(0.5)}
      >+</button
    >
    <button class="button" title="Zoom to the whole song (0)" onclick={timeline.fitAll}>All</button>
    <button class="button wide" title="Zoom to the passage (*)" onclick={timeline.fitPassage}>Passage</button>
    <button class="button" aria-pressed={view.snap} title="Snap to beats (N)" onclick={timeline.toggleSnap}
      >Snap</button
    >
    <button class="button wide" data-act="sections" aria-haspopup="dialog" onclick={openSections}
      >Sections</button
    >
    <button
      class="button wide"
      data-act="over time"
      aria-haspopup="dialog"
      title="What moves over time, in lanes beneath (Y)"
      onclick={() => (automation.listed = true)}>Over time</button
    >
  </div>
  <div class="lane" bind:this={lane} {@attach wheel}>
    <Layer shapes={bars} shown={shownAnew} />
    <div class="drawn" aria-busy={workspace.measuring.overviewStale}>
      <Layer {shapes} shown={shownAnew} />
    </div>
    <div
      class="sound"
      role="img"
      aria-label={says}
      data-picture="timeline"
      onpointerdown={(event) => {
        if (event.button !== 0) return;
        event.currentTarget.setPointerCapture(event.pointerId);
        const place = at(event, event.currentTarget);
        drag = { from: place, to: place, x: event.clientX, moved: false };
      }}
      onpointermove={(event) => {
        if (!drag) return;
        drag.to = at(event, event.currentTarget);
        drag.moved ||= Math.abs(event.clientX - drag.x) >= CLICK;
      }}
      onpointerup={release}
      onpointercancel={() => (drag = null)}
    ></div>
    <i
      class="passage"
      style:left="{percent(passage[0])}%"
      style:width="{percent(passage[1]) - percent(passage[0])}%"
    ></i>
    <SectionRow {from_s} {to_s} {at} />
    <StartHandle {from_s} {to_s} />
    <Playhead start_s={from_s} end_s={to_s} marked />
    {#if !overview && workspace.version && workspace.version.length_s > 0}<p class="soft wait">
        Drawing {workspace.selection.strip?.name ?? ''} ...
      </p>{/if}
  </div>
</div>

<style>
  .timeline {
    height: 100%;
    display: grid;
    grid-template-columns: 8rem minmax(0, 1fr);
    background: var(--plate);
  }
  .tools {
    display: grid;
    grid-template-columns: repeat(4, 1fr);
    gap: 4px;
    padding: 6px;
    align-content: start;
    border-right: 1px solid var(--line);
  }
  .tools .button {
    height: 1.5rem;
    line-height: 1.25rem;
    padding: 0;
    font-size: 0.75rem;
  }
  .tools .button:nth-child(3),
  .tools .button:nth-child(5) {
    grid-column: span 2;
  }
  .tools .wide {
    grid-column: span 2;
  }
  .tools [aria-pressed='true'] {
    background: var(--ink);
    color: var(--plate);
  }
  .lane {
    position: relative;
    min-width: 0;
    overflow: hidden;
  }
  .drawn,
  .sound {
    position: absolute;
    inset: 0;
    width: 100%;
    height: 100%;
  }
  .sound {
    cursor: text;
    touch-action: none;
  }
  .passage {
    position: absolute;
    top: 38px;
    bottom: 0;
    pointer-events: none;
    background: color-mix(in srgb, var(--after) 12%, transparent);
    border: 1px solid color-mix(in srgb, var(--after) 40%, transparent);
    border-width: 0 1px;
  }
  .wait {
    position: absolute;
    left: 20px;
    bottom: 4px;
    margin: 0;
    font-size: 0.75rem;
    pointer-events: none;
  }
</style>
