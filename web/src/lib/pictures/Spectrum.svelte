<script lang="ts">
  /** Level over frequency: before outlined, after filled, taken hatched; the key filter dashed; corners to drag. */
  import { untrack } from 'svelte';
  import Segments from '../controls/Segments.svelte';
  import { valueWheel } from '../draw/wheel';
  import { clamp, format, tidy, within } from '../controls/value';
  import { dragged } from '../draw/drag';
  import { valueAt } from '../draw/scale';
  import { atHz } from '../draw/shapes';
  import { spectrumState, type Fraction } from '../state/spectrum.svelte';
  import { workspace } from '../state/workspace.svelte';
  import { axesOf, bandOf, cornersOf, grid, LABEL_ROW, labelRows, says, shapesOf } from './geometry/spectrum';
  import Plot, { type Mark } from './Plot.svelte';

  /** A step of the wheel. */
  const WIDEN = 1.1;

  let box = $state.raw({ width: 0, height: 0 });
  const result = $derived(spectrumState.result);
  const spectrum = $derived(result?.spectrum ?? null);
  const settings = $derived(workspace.selection.step?.settings ?? {});
  const described = $derived(
    workspace.selection.step
      ? (workspace.described.processor(workspace.selection.step.kind)?.settings ?? [])
      : [],
  );
  const corners = $derived(cornersOf(described, settings));
  const band = $derived(bandOf(settings));
  const at = $derived(
    result && spectrum && workspace.listening.playing && spectrum.moving_before_db.length
      ? clamp(
          Math.round((workspace.listening.position_s - result.start_s) / spectrum.hop_s),
          0,
          spectrum.moving_before_db.length - 1,
        )
      : null,
  );
  const xs = $derived(axesOf(null, box).xs);
  const x = (hz: number) => atHz(hz, xs);
  /** An equaliser's corners are the handles of its bands. */
  const namesBands = $derived(Boolean(settings['band1_kind']));
  const labels = $derived(
    namesBands
      ? []
      : corners.map(({ name, label }) => {
          const hz = Number(settings[name]);
          return { x: x(hz), text: `${label} ${format(hz, 'Hz')}` };
        }),
  );
  const rows = $derived(labelRows(labels, box.width));
  const axes = $derived(axesOf(spectrum, box, Math.max(0, ...rows.map(({ row }) => row + 1))));
  const lines = $derived(grid(axes));
  const cut = $derived(corners.length > 0 && settings['range_db'] !== undefined);
  const shapes = $derived(spectrum ? shapesOf(spectrum, axes, at, cut) : []);
  const legend: Mark[] = $derived([
    { mark: 'outline', text: 'before' },
    { mark: 'fill', text: 'after' },
    { mark: 'hatch', text: 'taken' },
    { mark: 'grain', text: 'added' },
    { mark: 'taken', text: 'difference' },
    ...(spectrum?.key_db ? [{ mark: 'key', text: 'key filter' } as const] : []),
  ]);
  // A new study means new sound: ask for its spectrum too.
  $effect(() => {
    void [workspace.measuring.study, spectrumState.fraction, spectrumState.moving];
    // What is asked for is not what it hangs on: each edit makes another version.
    if (workspace.measuring.study) untrack(() => void spectrumState.ask());
  });

  /** One for each setting and for good: an edit must not end the drag that makes it. */
  const drags: Record<string, ReturnType<typeof dragged>> = {};
  const onCorner = (name: string) =>
    (drags[name] ??= dragged({
      hold: () => {
        const [step, was] = [workspace.selection.step!, Number(settings[name])];
        return (gesture) => workspace.set(step.id, { [name]: was }, gesture);
      },
      move: (place) => {
        const setting = corners.find((corner) => corner.name === name);
        if (!setting) return;
        const hz = within(10 ** valueAt(place.x, axes.xs), setting);
        workspace.set(workspace.selection.step!.id, { [name]: tidy(hz, 'Hz') }, place.gesture);
      },
    }));

  const wheel = valueWheel((steps, _, gesture) => {
    if (!workspace.selection.step || settings['width_oct'] === undefined) return;
    const width = clamp(Number(settings['width_oct']) * WIDEN ** steps, 0.1, 4);
    workspace.set(workspace.selection.step.id, { width_oct: tidy(width, 'oct') }, gesture);
  });
</script>

<Plot
  name="spectrum"
  label="Level over frequency before and after"
  says={spectrum ? says(spectrum) : ''}
  {legend}
  title="Level, dB"
  layers={[lines, shapes]}
  bind:box
  data-pictures={spectrum?.moving_before_db.length ?? 0}
>
  {#snippet tools()}
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
  {/snippet}
  {#if band}
    <div
      class="band"
      role="presentation"
      data-picture="band"
      title="Drag to move the whole band; wheel with Ctrl for its width"
      style:left="{x(band[0])}px"
      style:width="{x(band[1]) - x(band[0])}px"
      {@attach wheel}
      {@attach onCorner('frequency_hz')}
    ></div>
  {/if}
  {#if !namesBands}
    {#each corners as corner, index (corner.name)}
      <div
        class="corner"
        role="presentation"
        data-picture={corner.name}
        style:left="{x(Number(settings[corner.name]))}px"
        {@attach onCorner(corner.name)}
      >
        <span
          class="figure"
          class:left={rows[index]?.left}
          style:top="{(rows[index]?.row ?? 0) * LABEL_ROW}px">{labels[index]?.text}</span
        >
      </div>
    {/each}
  {/if}
</Plot>

<style>
  .band {
    position: absolute;
    top: 10px;
    bottom: 22px;
    cursor: ew-resize;
    touch-action: none;
    background: color-mix(in srgb, var(--key) 12%, transparent);
  }
  .corner {
    position: absolute;
    top: 2px;
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
    left: 8px;
    padding: 0 4px;
    white-space: nowrap;
    font-size: 0.6875rem;
    line-height: 1rem;
    background: var(--plate);
    color: var(--key);
    pointer-events: none;
  }
  .corner .left {
    left: auto;
    right: 8px;
  }
</style>
