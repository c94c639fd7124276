<script lang="ts">
  /** Output level against input level, with the levels at the detector as a histogram along the input axis. */
  import { clamp } from '../controls/value';
  import { dragged, type Place } from '../draw/drag';
  import { frames } from '../draw/frames';
  import { pixel, valueAt } from '../draw/scale';
  import { workspace } from '../state/workspace.svelte';
  import {
    addPoint,
    axesOf,
    grid,
    MAX_POINTS,
    movePoint,
    outputAt,
    says,
    shapesOf,
    type Point,
  } from './geometry/curve';
  import Plot, { type Mark } from './Plot.svelte';

  /** Settings whose level a drag along the input axis moves; the first that the step has. */
  const LEVELS = ['threshold_db', 'target_db', 'ceiling_db'];
  /** A drag begins no further than so many pixels from what it moves; a click moves nothing. */
  const NEAR = 12;
  const MAX_RATIO = 50;

  const LEGEND: Mark[] = [
    { mark: 'after', text: 'output' },
    { mark: 'dashed', text: 'unchanged' },
    { mark: 'hatch', text: 'taken' },
    { mark: 'grain', text: 'added' },
    { mark: 'key', text: 'detector' },
  ];
  let box = $state.raw({ width: 0, height: 0 });
  let dragging: 'level' | 'ratio' | number | null = null;
  let moving = $state<Point[] | null>(null);
  /** From where a drag began to what it moves, in pixels. */
  let off = { x: 0, y: 0 };
  /** What the curve has besides its ratio where a drag of that began, such as make-up gain, in dB. */
  let beside_db = 0;

  const curve = $derived(workspace.measuring.study?.curve ?? null);
  const settings = $derived(workspace.selection.step?.settings ?? {});
  const level = $derived(LEVELS.find((name) => name in settings) ?? null);
  /** How much higher a ceiling lies than the input that reaches it. */
  const gained = $derived(
    level === 'ceiling_db' ? Number(settings['gain_db'] ?? settings['drive_db'] ?? 0) : 0,
  );
  const threshold = $derived(level ? Number(settings[level]) - gained : null);
  const points = $derived(moving ?? (settings['points'] as Point[] | undefined) ?? []);
  const axes = $derived(axesOf(points.length > 0 || Number(settings[level ?? ''] ?? 0) < -42, box));
  const lines = $derived(grid(axes));
  const shapes = $derived(curve ? shapesOf(curve, axes, threshold) : []);

  /** The level at the detector at this moment, on the curve. */
  function point(element: HTMLElement): () => void {
    const place = () => {
      const now = workspace.listening.live?.detector_db ?? -160;
      const seen = curve !== null && now > axes.xs.low;
      element.style.visibility = seen ? 'visible' : 'hidden';
      if (!seen) return;
      const x = pixel(Math.min(now, axes.xs.high), axes.xs);
      const y = pixel(Math.max(outputAt(curve, now), axes.ys.low), axes.ys);
      element.style.transform = `translate(${x.toFixed(1)}px, ${y.toFixed(1)}px)`;
    };
    place();
    return frames.add(place);
  }

  const at = ({ x, y }: Place): Point => [valueAt(x + off.x, axes.xs), valueAt(y + off.y, axes.ys)];
  const put = (values: Record<string, number | Point[]>, gesture: string) =>
    workspace.set(workspace.selection.step!.id, values, gesture);

  function move(place: Place): void {
    const [input, output] = at(place);
    if (typeof dragging === 'number') {
      moving = movePoint(points, dragging, input, output);
      put({ points: moving }, place.gesture);
    } else if (dragging === 'level') {
      const { settings: described } = workspace.described.processor(workspace.selection.step!.kind)!;
      const setting = described.find((other) => other.name === level);
      const wanted = clamp(input + gained, setting?.minimum ?? -60, setting?.maximum ?? 0);
      put({ [level!]: Math.round(wanted * 10) / 10 }, place.gesture);
    } else if (dragging === 'ratio') {
      const ratio = (input - threshold!) / Math.max(output - beside_db - threshold!, 0.01);
      put({ ratio: Number(clamp(ratio, 1, MAX_RATIO).toPrecision(3)) }, place.gesture);
    }
  }
  function release(): void {
    dragging = null;
    moving = null;
    off = { x: 0, y: 0 };
  }
  /** What was there before a drag. */
  function kept(): (gesture: string) => void {
    const [step, was] = [workspace.selection.step!, { ...settings }];
    const names = [level, 'ratio', 'points'].filter((name): name is string => name !== null && name in was);
    const values = Object.fromEntries(names.map((name) => [name, was[name]!]));
    return (gesture) => workspace.set(step.id, values, gesture);
  }
  /** The line of the threshold. */
  const onThreshold = dragged({
    hold: (place) => {
      if (threshold === null) return false;
      dragging = 'level';
      off = { x: pixel(threshold, axes.xs) - place.x, y: 0 };
      return kept();
    },
    move,
    release,
  });
  /** On the curve right of the threshold a drag moves the ratio; beside the points of a free curve it adds one. */
  const whole = dragged({
    hold: (place) => {
      if (!workspace.selection.step || !curve) return false;
      if (points.length) {
        const restore = kept();
        const added = addPoint(points, ...at(place));
        if (!added) return false;
        dragging = added.at;
        moving = added.points;
        put({ points: moving }, place.gesture);
        return restore;
      }
      const onCurve = pixel(outputAt(curve, valueAt(place.x, axes.xs)), axes.ys);
      const beyond = threshold !== null && place.x > pixel(threshold, axes.xs) + NEAR;
      if (!('ratio' in settings) || !beyond || Math.abs(onCurve - place.y) > NEAR) return false;
      dragging = 'ratio';
      off = { x: 0, y: onCurve - place.y };
      const over_db = valueAt(place.x, axes.xs) - threshold!;
      beside_db = valueAt(onCurve, axes.ys) - threshold! - over_db / Number(settings['ratio']);
      return kept();
    },
    move,
    release,
  });
  /** One for each point and for good: an edit must not end the drag that makes it. */
  const onPoint = Array.from({ length: MAX_POINTS }, (_, index) =>
    dragged({
      hold: () => {
        dragging = index;
        return kept();
      },
      move,
      release,
    }),
  );
  function removePoint(index: number): void {
    if (points.length > 2)
      workspace.set(workspace.selection.step!.id, { points: points.filter((_, i) => i !== index) });
  }
</script>

<Plot
  name="curve"
  label="Output level against input level, with the levels at the detector"
  says={curve ? says(curve, threshold) : ''}
  title={workspace.selection.step?.key ? 'Against the key, dB' : 'Out against in, dB'}
  legend={LEGEND}
  layers={[lines, shapes]}
  bind:box
>
  <div
    class="field"
    class:free={points.length > 0}
    role="presentation"
    data-picture="curve"
    title={points.length
      ? 'Press beside the points to add one'
      : 'ratio' in settings
        ? 'Drag the curve right of the threshold: ratio'
        : ''}
    {@attach whole}
  ></div>
  {#if threshold !== null && !points.length}
    <div
      class="threshold"
      role="presentation"
      data-picture="curve threshold"
      title="Drag: {level === 'ceiling_db' ? 'ceiling' : 'threshold'}"
      style:left="{pixel(clamp(threshold, axes.xs.low, axes.xs.high), axes.xs) - NEAR}px"
      style:width="{2 * NEAR}px"
      {@attach onThreshold}
    ></div>
  {/if}
  {#each points as place, index (index)}
    <button
      class="point"
      tabindex="-1"
      aria-label="Point {index + 1}"
      data-picture="point{index}"
      title="Drag; double-click removes it"
      style:left="{pixel(clamp(place[0], axes.xs.low, axes.xs.high), axes.xs)}px"
      style:top="{pixel(clamp(place[1], axes.ys.low, axes.ys.high), axes.ys)}px"
      ondblclick={() => removePoint(index)}
      {@attach onPoint[index]}
    ></button>
  {/each}
  <i class="live" {@attach point}></i>
</Plot>

<style>
  .field {
    position: absolute;
    inset: 0;
    touch-action: none;
  }
  .free {
    cursor: crosshair;
  }
  .threshold {
    position: absolute;
    top: 0;
    bottom: 0;
    cursor: ew-resize;
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
    will-change: transform;
  }
</style>
