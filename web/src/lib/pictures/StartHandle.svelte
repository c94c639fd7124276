<script lang="ts">
  /** The flag where the chosen track's file begins in the timeline: dragged (to beats while snapping is on), nudged by the arrow keys. */
  import { newId } from '../api/client';
  import { pressGestures } from '../controls/arrows';
  import { barsAndBeats, toBeat } from '../draw/grid';
  import { nudgedStart, setStart } from '../state/starts';
  import { view } from '../state/timeline.svelte';
  import { workspace } from '../state/workspace.svelte';

  interface Props {
    from_s: number;
    to_s: number;
  }
  let { from_s, to_s }: Props = $props();
  const gesture = pressGestures();
  const strip = $derived(workspace.selection.strip);
  const track = $derived(strip && strip.media_id !== null ? strip : null);
  const share = $derived(track ? (track.start_s - from_s) / (to_s - from_s) : 0);
  /** A start outside what is shown waits at the edge. */
  const shown = $derived(Math.min(Math.max(share, 0), 1));
  let drag: { x: number; start_s: number; gesture: string; width: number } | null = null;

  function move(event: PointerEvent): void {
    if (!drag || !track) return;
    const start = drag.start_s + ((event.clientX - drag.x) / drag.width) * (to_s - from_s);
    const snapped = view.snap && !event.altKey ? beat(start) : start;
    setStart(workspace, track, snapped, drag.gesture);
  }
  /** The nearest beat, also before the session. */
  const beat = (start_s: number) => (start_s >= 0 ? toBeat(start_s, workspace.grid) : start_s);

  function keys(event: KeyboardEvent): void {
    if (!track) return;
    const start = nudgedStart(workspace, track, event, {
      ArrowRight: 1,
      ArrowLeft: -1,
      ArrowUp: 1,
      ArrowDown: -1,
    });
    if (start === null) return;
    event.preventDefault();
    event.stopPropagation();
    setStart(workspace, track, start, gesture());
  }
</script>

{#if track}
  <div
    class="start"
    class:outside={share < 0 || share > 1}
    role="slider"
    tabindex="0"
    aria-label="Start of {track.name}"
    aria-valuenow={track.start_s}
    aria-valuetext="{track.start_s.toFixed(3)} s, bar {barsAndBeats(track.start_s, workspace.grid)}"
    data-picture="start"
    title="{track.name} starts at {track.start_s.toFixed(
      3,
    )} s: drag (Alt: freely), or the arrow keys: 1 ms, with Shift a sample, with Ctrl a beat"
    style:left="{100 * shown}%"
    onkeydown={keys}
    onpointerdown={(event) => {
      if (event.button !== 0) return;
      event.currentTarget.setPointerCapture(event.pointerId);
      const width = event.currentTarget.parentElement!.clientWidth;
      drag = { x: event.clientX, start_s: track.start_s, gesture: newId(), width };
    }}
    onpointermove={move}
    onpointerup={() => (drag = null)}
    onpointercancel={() => (drag = null)}
  >
    <svg viewBox="0 0 10 12" aria-hidden="true"><path d="M1 12V1h8l-3 3 3 3H1" /></svg>
  </div>
{/if}

<style>
  .start {
    position: absolute;
    bottom: 0;
    width: 14px;
    height: 16px;
    margin-left: -1px;
    cursor: ew-resize;
    touch-action: none;
    z-index: 1;
  }
  .outside {
    margin-left: -8px;
    opacity: 0.5;
  }
  svg {
    width: 12px;
    height: 14px;
    fill: var(--after);
    stroke: var(--plate);
    stroke-width: 1;
  }
</style>
