<script lang="ts">
  /** Spectrum before and after, what is taken now hatched from the top, and the resonances as numbered handles. */
  import { untrack } from 'svelte';
  import { valueWheel } from '../draw/wheel';
  import { clamp, format, tidy, within } from '../controls/value';
  import { dragged } from '../draw/drag';
  import { valueAt } from '../draw/scale';
  import { spectrumState } from '../state/spectrum.svelte';
  import { tamer } from '../state/tamer.svelte';
  import { workspace } from '../state/workspace.svelte';
  import { columnAt, cutsOf, depthOf, handleAt, says, shapesOf as cutShapes } from './geometry/resonances';
  import { axesOf, grid, shapesOf } from './geometry/spectrum';
  import Plot, { type Mark } from './Plot.svelte';

  const MAX_DB = 24;
  const WIDTHS: [number, number] = [0.03, 2];
  /** Key presses within so long are one edit. */
  const TOGETHER_MS = 1500;
  const WIDEN = 1.1;

  let box = $state.raw({ width: 0, height: 0 });
  const spectrum = $derived(spectrumState.result?.spectrum ?? null);
  const study = $derived(workspace.measuring.study);
  const remark = $derived(study?.remark ?? '');
  const column = $derived(
    study && workspace.listening.playing ? columnAt(study, workspace.listening.position_s) : null,
  );
  const cuts = $derived(study ? cutsOf(study, tamer.resonances, column) : []);
  const axes = $derived(axesOf(spectrum, box));
  const lines = $derived(grid(axes));
  const shapes = $derived(spectrum ? shapesOf(spectrum, axes, null, false) : []);
  const hatches = $derived(cutShapes(cuts, axes));
  const legend: Mark[] = [
    { mark: 'outline', text: 'before' },
    { mark: 'fill', text: 'after' },
    { mark: 'hatch', text: 'taken' },
    { mark: 'taken', text: 'difference' },
  ];

  $effect(() => {
    void [workspace.measuring.study, spectrumState.fraction, spectrumState.moving];
    if (workspace.measuring.study) untrack(() => void spectrumState.ask());
  });

  /** One for each handle and for good: an edit must not end the drag that makes it. */
  const drags: ReturnType<typeof dragged>[] = [];
  const onHandle = (at: number) =>
    (drags[at] ??= (() => {
      let off = { x: 0, y: 0 };
      return dragged({
        hold: (place) => {
          const was = tamer.resonances;
          const one = was[at];
          if (!one) return false;
          const stands = handleAt(one, axes);
          off = { x: stands.x - place.x, y: stands.y - place.y };
          return (gesture) => tamer.put(was, gesture);
        },
        move: (place) => {
          const one = tamer.resonances[at];
          if (!one) return;
          const hz = within(10 ** valueAt(place.x + off.x, axes.xs), tamer.setting);
          const depth = axes.ys.high - valueAt(place.y + off.y, axes.ys);
          tamer.change(at, { frequency_hz: tidy(hz, 'Hz'), ...depthOf(one, depth, MAX_DB) }, place.gesture);
        },
      });
    })());
  const together = (what: string) => `${what} ${Math.floor(Date.now() / TOGETHER_MS)}`;
  function widen(at: number, steps: number, gesture = together(`width ${at}`)): void {
    const width = tamer.resonances[at]!.width_oct * WIDEN ** steps;
    tamer.change(at, { width_oct: tidy(clamp(width, ...WIDTHS), 'oct') }, gesture);
  }
  const wheel = (at: number) => valueWheel((steps, _, gesture) => widen(at, steps, gesture));
  function keys(event: KeyboardEvent, at: number): void {
    const one = tamer.resonances[at]!;
    const across = { ArrowRight: 1, ArrowLeft: -1 }[event.key];
    const down = { ArrowDown: 1, ArrowUp: -1 }[event.key];
    if (across) {
      const hz = one.frequency_hz * 2 ** ((across * (event.shiftKey ? 1 : 4)) / 96);
      tamer.change(at, { frequency_hz: tidy(within(hz, tamer.setting), 'Hz') }, together(`hz ${at}`));
    } else if (down) {
      const depth = one.height_db * one.share + down * (event.shiftKey ? 0.1 : 0.5);
      tamer.change(at, depthOf(one, depth, MAX_DB), together(`depth ${at}`));
    } else if (event.key === '+' || event.key === '-') widen(at, event.key === '+' ? 1 : -1);
    else if (event.key === 'Delete' || event.key === 'Backspace') tamer.remove(at);
    else return;
    event.preventDefault();
    event.stopPropagation();
  }
  function add(event: MouseEvent & { currentTarget: HTMLElement }): void {
    if (tamer.free || (event.target as HTMLElement).closest('button')) return;
    const x = event.clientX - event.currentTarget.getBoundingClientRect().left;
    tamer.add(tidy(within(10 ** valueAt(x, axes.xs), tamer.setting), 'Hz'));
  }
</script>

<Plot
  name="resonances"
  label="Resonances"
  says={says(tamer.resonances, cuts, remark)}
  {legend}
  verdict={remark}
  layers={[lines, shapes, hatches]}
  bind:box
  data-cuts={cuts.map((cut) => `${cut.hz}:${cut.db.toFixed(1)}`).join(' ')}
  ondblclick={add}
>
  {#snippet tools()}
    {#if tamer.asking.fraction === null}
      <button
        class="button"
        data-act="study"
        title="Find the resonances of the passage: a few seconds suffice, a whole chorus is better"
        onclick={() => tamer.study()}>Study the passage</button
      >
      {#if !tamer.free}
        <button
          class="button"
          disabled={tamer.full}
          title="A resonance of your own (or double-click in the picture)"
          onclick={() => tamer.add(1000)}>Add</button
        >
      {/if}
    {:else}
      <progress aria-label="Study" max="1" value={tamer.asking.fraction}></progress>
      <button class="button" onclick={() => tamer.asking.cancel()}>Cancel</button>
    {/if}
  {/snippet}
  {#if !tamer.free}
    {#each tamer.resonances as one, at (at)}
      {@const stands = handleAt(one, axes)}
      <button
        class="handle figure"
        class:off={!one.on}
        data-picture="resonance {at + 1}"
        aria-label="Resonance {at + 1}: {format(one.frequency_hz, 'Hz')}, {(
          one.height_db * one.share
        ).toFixed(1)} dB{one.on ? '' : ', off'}"
        title="{format(one.frequency_hz, 'Hz')}, sticks out by {one.height_db.toFixed(
          1,
        )} dB (certainty {Math.round(
          (one.certainty ?? 1) * 100,
        )} %). Drag: frequency and depth; wheel with Ctrl, or + and -: width; Del removes; double-click: on and off"
        style:left="{stands.x}px"
        style:top="{clamp(stands.y, 40, box.height - 30)}px"
        onkeydown={(event) => keys(event, at)}
        ondblclick={() => tamer.change(at, { on: !one.on })}
        {@attach onHandle(at)}
        {@attach wheel(at)}>{at + 1}</button
      >
    {/each}
  {/if}
</Plot>

<style>
  .handle {
    position: absolute;
    width: 18px;
    height: 18px;
    margin: -9px 0 0 -9px;
    padding: 0;
    border: 1px solid var(--taken);
    background: var(--plate);
    color: var(--taken);
    font-size: 0.6875rem;
    line-height: 1rem;
    text-align: center;
    cursor: move;
    touch-action: none;
    clip-path: polygon(0 0, calc(100% - 5px) 0, 100% 5px, 100% 100%, 0 100%);
  }
  .handle.off {
    border-style: dashed;
    color: var(--ink-soft);
    border-color: var(--ink-soft);
  }
  progress {
    width: 8rem;
    height: 0.75rem;
    align-self: center;
    accent-color: var(--after);
  }
</style>
