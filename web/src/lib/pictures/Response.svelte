<script lang="ts">
  /** Gain over frequency; a handle for each band of the equaliser moves its frequency and gain. */
  import { clamp, tidy } from '../controls/value';
  import { dragged } from '../draw/drag';
  import { valueAt } from '../draw/scale';
  import { workspace } from '../state/workspace.svelte';
  import { axesOf, grid, handles, hasGain, says, shapesOf } from './geometry/response';
  import Plot, { type Mark } from './Plot.svelte';

  const LEGEND: Mark[] = [
    { mark: 'after', text: 'gain' },
    { mark: 'hatch', text: 'cut' },
    { mark: 'grain', text: 'boost' },
  ];
  let box = $state.raw({ width: 0, height: 0 });
  const response = $derived(workspace.measuring.study?.response ?? null);
  const settings = $derived(workspace.selection.step?.settings ?? {});
  const axes = $derived(axesOf(box));
  const lines = $derived(grid(axes));
  const shapes = $derived(response ? shapesOf(response, axes) : []);

  /** One for each band and for good: an edit must not end the drag that makes it. */
  const drags = [1, 2, 3, 4].map((band) => {
    const names = [`band${band}_frequency_hz`, `band${band}_gain_db`] as const;
    return dragged({
      hold: () => {
        const [step, was] = [
          workspace.selection.step!,
          names.map((name) => Number(settings[name])) as [number, number],
        ];
        return (gesture) => workspace.set(step.id, { [names[0]]: was[0], [names[1]]: was[1] }, gesture);
      },
      move: ({ x, y, gesture }) => {
        const { xs, ys } = axes;
        const hz = 10 ** clamp(valueAt(x, xs), xs.low, xs.high);
        const gain_db = tidy(clamp(valueAt(y, ys), ys.low, ys.high), 'dB');
        const change = { [names[0]]: tidy(hz, 'Hz'), [names[1]]: hasGain(settings, band) ? gain_db : 0 };
        workspace.set(workspace.selection.step!.id, change, gesture);
      },
    });
  });
</script>

<Plot
  name="response"
  label="Gain over frequency"
  says={response ? says(response) : ''}
  title="Gain, dB, over frequency, Hz"
  legend={LEGEND}
  layers={[lines, shapes]}
  bind:box
>
  {#each handles(settings, axes) as handle (handle.band)}
    <button
      class="figure"
      tabindex="-1"
      data-picture="band{handle.band}"
      aria-label="Band {handle.band}"
      style:left="{handle.x}px"
      style:top="{handle.y}px"
      {@attach drags[handle.band - 1]}>{handle.band}</button
    >
  {/each}
</Plot>

<style>
  button {
    position: absolute;
    width: 18px;
    height: 1.125rem;
    margin: -9px 0 0 -9px;
    padding: 0;
    line-height: 1rem;
    font-size: 0.6875rem;
    background: var(--plate);
    border: 1px solid var(--ink);
    clip-path: polygon(0 0, 70% 0, 100% 30%, 100% 100%, 0 100%);
    touch-action: none;
    cursor: move;
  }
</style>
