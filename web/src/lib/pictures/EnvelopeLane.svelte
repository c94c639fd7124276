<script lang="ts">
  /**
   * The course of one value over the session. A press adds a point, points are dragged, with Shift a stretch is chosen; of values by
   * section the handles stand in the middle of their sections.
   */
  import { tick } from 'svelte';
  import { newId, type Breakpoint, type Section } from '../api/client';
  import { arrowWay, nudged, pressGestures } from '../controls/arrows';
  import { formatSetting, tidy, clamp } from '../controls/value';
  import { whenShown } from '../draw/canvas';
  import { dragged } from '../draw/drag';
  import { barsAndBeats, beatLength } from '../draw/grid';
  import { automation } from '../state/automation.svelte';
  import { isSwitch, keyOf, type Address } from '../state/course';
  import { view } from '../state/timeline.svelte';
  import { workspace } from '../state/workspace.svelte';
  import {
    apart,
    between,
    courseShapes,
    gridShapes,
    seenOf,
    snappedTo,
    valueOf,
    yOf,
  } from './geometry/envelope';
  import { xOf } from './geometry/timeline';
  import LaneRange from './LaneRange.svelte';
  import LaneSide from './LaneSide.svelte';
  import Layer from './Layer.svelte';
  import Playhead from './Playhead.svelte';

  let { address }: { address: Address } = $props();
  const CLICK = 3;

  let plot = $state<HTMLElement | null>(null);
  let box = $state.raw({ width: 0, height: 0 });
  let shownAnew = $state(0);
  /** What is dragged: where it is just now, and the axis as it was then, so that nothing moves under the hand. */
  let grip = $state.raw<{ id: string; at_s: number; value: number } | null>(null);
  let frozen = $state.raw<{ low: number; high: number } | null>(null);
  let chosen = $state<{ from_s: number; to_s: number } | null>(null);

  const setting = $derived(automation.scale(address)!);
  const moved = $derived(automation.of(address));
  const envelope = $derived(automation.envelope(address));
  const label = $derived(moved?.label ?? setting.label);
  const key = $derived(keyOf(address));
  const onOff = $derived(isSwitch(address));
  const span = $derived({ from_s: view.span[0], to_s: view.span[1] });
  const sections = $derived(workspace.session?.sections ?? []);
  const bySection = $derived(moved?.face === 'sections');
  const points = $derived(
    (envelope?.points ?? []).map((point) => (point.id === grip?.id ? { ...point, ...grip } : point)),
  );
  const values = $derived([
    ...(moved?.values ?? []),
    ...(moved ? [moved.still] : []),
    ...(moved?.levers ?? []).flatMap(({ low, high }) => [low, high]),
  ]);
  const seen = $derived(frozen ?? (onOff ? { low: 0, high: 1 } : seenOf(values, setting)));
  const borders = $derived(sections.flatMap(({ start_s, end_s }) => [start_s, end_s]));
  const lines = $derived(box.width ? gridShapes(setting, seen, span, borders, box) : []);
  const course = $derived(moved ?? { times_s: [], values: [], still: automation.present(address) ?? 0 });
  const shapes = $derived(
    box.width ? courseShapes(course, setting, seen, span, box, !moved?.face || moved.on) : [],
  );
  const text = (value: number) => (onOff ? (value >= 0.5 ? 'on' : 'off') : formatSetting(value, setting));
  const says = $derived(
    bySection
      ? Object.entries(envelope?.sections ?? {})
          .map(
            ([id, value]) => `${sections.find((one) => one.id === id)?.name ?? 'a section'}: ${text(value)}`,
          )
          .join(', ')
      : points
          .map((point) => `bar ${barsAndBeats(point.at_s, workspace.grid)}: ${text(point.value)}`)
          .join(', '),
  );

  $effect(() => {
    const element = plot;
    if (!element) return;
    return whenShown(element, () => {
      box = { width: element.clientWidth, height: element.clientHeight };
      shownAnew += 1;
    });
  });

  const x = (at_s: number) => xOf(at_s, span, box.width);
  const timeOf = (px: number) => Math.max(0, span.from_s + (px / box.width) * (span.to_s - span.from_s));
  const snap = (at_s: number) => (view.snap ? snappedTo(at_s, workspace.grid, sections) : at_s);
  function tidied(value: number): number {
    if (onOff) return value >= 0.5 ? 1 : 0;
    return clamp(tidy(value, setting.unit), setting.minimum ?? 0, setting.maximum ?? 1);
  }
  const at = (y: number) => tidied(valueOf(y, setting, seen, box));

  // ---- points --------------------------------------------------------------------------------------------------------------

  /** One for each handle and for good: an edit must not end the drag that makes it. */
  const drags: Record<string, ReturnType<typeof dragged>> = {};
  const pointNow = (id: string) => envelope?.points.find((point) => point.id === id);
  const onPoint = (id: string) =>
    (drags[id] ??= (() => {
      let began: Breakpoint;
      return dragged({
        hold: () => {
          const point = pointNow(id);
          if (!point) return false;
          began = { ...point };
          grip = { id, at_s: point.at_s, value: point.value };
          frozen = seen;
          return (gesture) => void automation.put(address, began, gesture);
        },
        move: (place) => {
          const next = { at_s: snap(timeOf(place.x)), value: at(place.y) };
          if (next.at_s === grip?.at_s && next.value === grip?.value) return;
          grip = { id, ...next };
          void automation.put(address, { ...began, ...next }, place.gesture);
        },
        release: () => (grip = frozen = null),
      });
    })());
  const onSection = (id: string) =>
    (drags[`section ${id}`] ??= (() => {
      let began = 0;
      return dragged({
        hold: () => {
          began = sectionValue(id);
          grip = { id, at_s: 0, value: began };
          frozen = seen;
          return (gesture) => void automation.edit(address, { sections: { [id]: began } }, gesture);
        },
        move: (place) => {
          const value = at(place.y);
          grip = { id, at_s: 0, value };
          void automation.edit(address, { sections: { [id]: value } }, place.gesture);
        },
        release: () => (grip = frozen = null),
      });
    })());
  const sectionValue = (id: string) =>
    grip?.id === id ? grip.value : (envelope?.sections[id] ?? moved?.still ?? 0);

  const gesture = pressGestures();
  const turned = (event: KeyboardEvent) => arrowWay(event, beatLength(workspace.grid), onOff);
  const turnedBy = (value: number, share: number) => nudged(value, share, setting, onOff);
  function pointKeys(event: KeyboardEvent, point: Breakpoint): void {
    const way = turned(event);
    if (way) {
      const at_s = Math.max(0, point.at_s + way.time_s);
      void automation.put(address, { ...point, at_s, value: turnedBy(point.value, way.share) }, gesture());
    } else if (event.key === 'Delete' || event.key === 'Backspace') {
      event.preventDefault();
      event.stopPropagation();
      void automation.remove(address, [point.id]);
    } else if (event.key === 'Enter') {
      event.preventDefault();
      event.stopPropagation();
      automation.menu = address;
    }
  }
  function sectionKeys(event: KeyboardEvent, section: Section): void {
    const way = turned(event);
    if (way)
      void automation.edit(
        address,
        { sections: { [section.id]: turnedBy(sectionValue(section.id), way.share) } },
        gesture(),
      );
  }

  // ---- the picture itself --------------------------------------------------------------------------------------------------

  let press = $state.raw<{ x: number; y: number; range: boolean } | null>(null);
  function down(event: PointerEvent & { currentTarget: HTMLElement }): void {
    if (event.button !== 0 || event.target !== event.currentTarget) return;
    event.currentTarget.setPointerCapture(event.pointerId);
    const bounds = event.currentTarget.getBoundingClientRect();
    event.currentTarget.focus();
    press = { x: event.clientX - bounds.left, y: event.clientY - bounds.top, range: event.shiftKey };
    chosen = null;
  }
  function follow(event: PointerEvent & { currentTarget: HTMLElement }): void {
    if (!press || bySection) return;
    const px = event.clientX - event.currentTarget.getBoundingClientRect().left;
    if (Math.abs(px - press.x) >= CLICK && press.range)
      chosen = { from_s: timeOf(Math.min(press.x, px)), to_s: timeOf(Math.max(press.x, px)) };
  }
  function up(): void {
    const done = press;
    press = null;
    if (done?.range && chosen)
      void tick().then(() => plot?.querySelector<HTMLElement>('[role=toolbar]')?.focus());
    if (!done || done.range || bySection) return;
    const point: Breakpoint = {
      id: newId(),
      at_s: snap(timeOf(done.x)),
      value: at(done.y),
      shape: onOff ? 'hold' : 'linear',
      bend: 0,
    };
    void automation.put(address, point).then(async () => {
      await tick();
      // Delete is of this point now, not of a step.
      plot?.querySelector<HTMLElement>(`[data-point-id="${point.id}"]`)?.focus();
    });
  }

  /** Handles that are drawn: none over another. More of them are there when the timeline is zoomed in. */
  let focused = $state<string | null>(null);
  const handles = $derived(
    box.width && !bySection
      ? apart(
          points.flatMap((point, index) => {
            if (point.at_s < span.from_s || point.at_s > span.to_s) return [];
            const y = yOf(point.value, setting, seen, box);
            return [{ id: point.id, x: x(point.at_s), y, point, index }];
          }),
          grip?.id ?? focused,
        )
      : [],
  );
  const hidden = $derived(
    bySection
      ? 0
      : points.filter(({ at_s }) => at_s >= span.from_s && at_s <= span.to_s).length - handles.length,
  );
  const inside = $derived(chosen ? between(points, chosen.from_s, chosen.to_s) : []);
</script>

<div class="lane" data-lane={key} data-over-time>
  <LaneSide {address} {label} />
  <div class="plot" bind:this={plot}>
    <Layer shapes={lines} shown={shownAnew} />
    <Layer {shapes} shown={shownAnew} />
    <div
      class="ground"
      tabindex="-1"
      role="img"
      aria-label="{label} over time. {says}"
      data-picture="lane {key}"
      title={bySection
        ? 'Drag a handle up or down'
        : 'Click adds a point; drag with Shift chooses a stretch; double-click a point to remove it'}
      onpointerdown={down}
      onpointermove={follow}
      onpointerup={up}
      onpointercancel={() => (press = null)}
    ></div>
    {#if chosen && inside.length}
      <LaneRange {address} {inside} {setting} {onOff} {x} bind:chosen />
    {/if}
    {#if box.width && bySection}
      {#each sections as section (section.id)}
        {@const value = sectionValue(section.id)}
        {@const middle = x((section.start_s + section.end_s) / 2)}
        {#if middle > 0 && middle < box.width}
          <div
            class="point section"
            class:grip={grip?.id === section.id}
            class:low={yOf(value, setting, seen, box) > box.height / 2}
            role="slider"
            tabindex="0"
            aria-label="{label} in {section.name}"
            aria-valuenow={value}
            aria-valuemin={setting.minimum}
            aria-valuemax={setting.maximum}
            aria-valuetext={text(value)}
            style:left="{middle}px"
            style:top="{yOf(value, setting, seen, box)}px"
            title="{section.name}: {text(value)}"
            {@attach onSection(section.id)}
            onkeydown={(event) => sectionKeys(event, section)}
          >
            <span class="figure">{text(value)}</span>
          </div>
        {/if}
      {/each}
    {:else}
      {#if hidden}<span class="more soft" title="Handles that would lie over others; zoom in to reach them"
          >{hidden} more</span
        >{/if}
      {#each handles as { point, index, x: left, y: top } (point.id)}
        <div
          class="point"
          class:grip={grip?.id === point.id}
          role="slider"
          tabindex="0"
          aria-label="{label}, point {index + 1} at bar {barsAndBeats(point.at_s, workspace.grid)}"
          aria-valuenow={point.value}
          aria-valuemin={setting.minimum}
          aria-valuemax={setting.maximum}
          aria-valuetext={text(point.value)}
          data-point={index + 1}
          data-point-id={point.id}
          style:left="{left}px"
          style:top="{top}px"
          title="{text(point.value)} at bar {barsAndBeats(point.at_s, workspace.grid)}"
          {@attach onPoint(point.id)}
          onfocus={() => (focused = point.id)}
          onblur={() => (focused = null)}
          onkeydown={(event) => pointKeys(event, point)}
          ondblclick={() => automation.remove(address, [point.id])}
        >
          {#if grip?.id === point.id}<span class="figure"
              >{text(point.value)}, {barsAndBeats(point.at_s, workspace.grid)}</span
            >{/if}
        </div>
      {/each}
    {/if}
    <Playhead start_s={span.from_s} end_s={span.to_s} />
  </div>
</div>

<style>
  .lane {
    display: grid;
    grid-template-columns: 8rem minmax(0, 1fr);
    height: 4.5rem;
    border-top: 1px solid var(--line);
    background: var(--plate);
  }
  .plot {
    position: relative;
    min-width: 0;
    overflow: hidden;
    user-select: none;
  }
  .ground {
    position: absolute;
    inset: 0;
    cursor: crosshair;
    touch-action: none;
  }
  .more {
    position: absolute;
    left: 4px;
    bottom: 1px;
    font-size: 0.6875rem;
  }
  .point {
    position: absolute;
    width: 13px;
    height: 13px;
    margin: -6.5px 0 0 -6.5px;
    cursor: move;
    touch-action: none;
  }
  .point::before {
    content: '';
    position: absolute;
    inset: 3px;
    background: var(--plate);
    border: 1.5px solid var(--after);
    transform: rotate(45deg);
  }
  .point.grip::before,
  .point:focus-visible::before {
    background: var(--after);
  }
  .section {
    width: 44px;
    margin-left: -22px;
    cursor: ns-resize;
  }
  .section::before {
    inset: 5px 0;
    transform: none;
    background: var(--after);
    border: 0;
  }
  .point .figure {
    position: absolute;
    left: 50%;
    top: -15px;
    transform: translateX(-50%);
    padding: 0 3px;
    font-size: 0.6875rem;
    line-height: 0.875rem;
    white-space: nowrap;
    background: var(--plate);
    pointer-events: none;
  }
  .section .figure {
    top: 11px;
    background: none;
  }
  .section.low .figure {
    top: -11px;
  }
</style>
