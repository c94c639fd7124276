<script lang="ts">
  /** Test signals through what is chosen, with its present settings: pictures with figures, pinned and compared. */
  import { api, type BenchTest, type Setting } from '../lib/api/client';
  import Chart from '../lib/bench/Chart.svelte';
  import { figureText } from '../lib/bench/chart';
  import Slider from '../lib/controls/Slider.svelte';
  import Segments from '../lib/controls/Segments.svelte';
  import { leftText } from '../lib/draw/time-left';
  import PathRail from '../lib/path/PathRail.svelte';
  import { bench } from '../lib/state/bench.svelte';
  import { page } from '../lib/state/page.svelte';
  import { workspace } from '../lib/state/workspace.svelte';
  import SaveAs from '../lib/tables/SaveAs.svelte';
  import StripTree from '../lib/tree/StripTree.svelte';

  let pathHeight = $state(84);
  let chart = $state<Chart | null>(null);
  const TESTS: [BenchTest, string, string][] = [
    ['harmonics', 'Harmonics', 'A sine: which harmonics come out, and how strong'],
    ['intermodulation', 'Intermodulation', 'Two sines: SMPTE and difference frequency'],
    ['aliasing', 'Aliasing', 'A sine that climbs: what folds back at half the sample rate'],
    ['curve', 'Curve', 'Level out against level in, measured over what is set'],
    ['burst', 'Burst', 'A tone that steps up and down: attack, hold, release, overshoot'],
    ['impulse', 'Impulse', 'One sample: response, latency, pre-ringing'],
    ['noise', 'Noise', 'Pink noise before and after'],
  ];
  /** A rule of the test signal, which belongs to no session. */
  const decibels = (name: string, label: string, minimum: number, maximum: number, ticks: number[], help: string): Setting => ({
    name, label, unit: 'dB', minimum, maximum, ticks, help, type: 'number', options: [], words: {}, default: 0, scale: 'linear',
    off_at: null,
    most: null, group: '', when: {}, moves: 'at once', analysed: false,
  }); // prettier-ignore
  const time = (name: string, label: string, unit: string, low: number, high: number, ticks: number[], help: string): Setting => ({
    ...decibels(name, label, low, high, ticks, help), unit, scale: 'log', default: unit === 'Hz' ? 1000 : 400,
  }); // prettier-ignore
  const FREQUENCY = time(
    'bench_frequency_hz',
    'Tone',
    'Hz',
    20,
    20000,
    [20, 100, 1000, 10000],
    'Frequency of the tone.',
  );
  const BURST = time('bench_burst_ms', 'Burst', 'ms', 5, 5000, [10, 100, 1000], 'How long the burst lasts.');
  const LEVEL = {
    ...decibels(
      'bench_level_dbfs',
      'Level',
      -90,
      24,
      [-60, -36, -12, 0],
      'Peak of the test signal, in dBFS.',
    ),
    default: -12,
  };
  const LOW = {
    ...decibels('bench_low_dbfs', 'Before and after', -90, 0, [-60, -40, -20], 'Level around the burst.'),
    default: -40,
  };
  const pinned = $derived(bench.pins.filter((pin) => pin.result.test === bench.result?.test));
  const figures = $derived(bench.result?.figures ?? []);
  const other = (letter: string, name: string) =>
    pinned.find((pin) => pin.letter === letter)?.result.figures.find((figure) => figure.name === name)
      ?.value ?? null;

  // Whatever is asked, chosen or edited is measured anew.
  $effect(() => {
    void [
      bench.test,
      bench.frequency_hz,
      bench.level_dbfs,
      bench.low_dbfs,
      bench.burst_ms,
      bench.compare,
      bench.whole,
    ];
    void [
      workspace.version?.revision,
      workspace.selection.stripId,
      workspace.selection.stepId,
      workspace.selection.laneId,
    ];
    bench.soon();
    return () => bench.stop();
  });

  const table = async () => {
    const id = workspace.version?.id;
    return id === undefined ? undefined : workspace.attempt(() => api.benchCsv(id, bench.question()));
  };
  function keys(event: KeyboardEvent): void {
    if (
      (event.target as HTMLElement).matches('input, select') ||
      event.ctrlKey ||
      event.metaKey ||
      event.altKey
    )
      return;
    if (event.key.toLowerCase() === 'k') bench.pin();
    else return;
    event.preventDefault();
    event.stopPropagation();
  }
  async function copy(value: number | null): Promise<void> {
    if (value === null) return;
    await navigator.clipboard?.writeText(String(value));
    workspace.note('The figure is copied.');
  }
</script>

<svelte:window onkeydowncapture={keys} />
<main class="bench" style:--path="{pathHeight}px">
  <div class="tree"><StripTree stageGain={() => (page.dialog = 'stage gain')} /></div>
  <div class="path">
    <PathRail bind:adding={page.adding} bind:bands={page.bands} bind:height={pathHeight} />
  </div>
  <section class="stand" aria-label="Bench">
    <header>
      <h2>{bench.label}</h2>
      <Segments label="Test" options={TESTS} value={bench.test} change={(test) => (bench.test = test)} />
      <span class="space"></span>
      <span class="soft figure" role="status" data-figure="bench_state"
        >{bench.asking.fraction === null
          ? 'measured'
          : `measuring ${Math.round(100 * bench.asking.fraction)} %${leftText(bench.asking.left)}`}</span
      >
    </header>
    <div class="asked">
      {#if bench.test === 'harmonics' || bench.test === 'curve' || bench.test === 'burst'}
        <Slider
          setting={FREQUENCY}
          value={bench.frequency_hz}
          change={(value) => (bench.frequency_hz = Number(value))}
        />
      {/if}
      {#if bench.test !== 'curve'}
        <Slider
          setting={LEVEL}
          value={bench.level_dbfs}
          change={(value) => (bench.level_dbfs = Number(value))}
        />
      {/if}
      {#if bench.test === 'burst'}
        <Slider setting={LOW} value={bench.low_dbfs} change={(value) => (bench.low_dbfs = Number(value))} />
        <Slider setting={BURST} value={bench.burst_ms} change={(value) => (bench.burst_ms = Number(value))} />
      {/if}
      {#if bench.test === 'aliasing'}
        <label><input type="checkbox" bind:checked={bench.compare} /> at every oversampling</label>
      {/if}
      {#if !workspace.selection.step && !workspace.selection.lane}
        <label title="With the strip's trim and level"
          ><input type="checkbox" bind:checked={bench.whole} /> the whole strip</label
        >
      {/if}
    </div>
    <div class="picture">
      {#if bench.result}<Chart bind:this={chart} result={bench.result} pins={pinned} />
      {:else}<p class="soft">Measuring ...</p>{/if}
    </div>
    <p class="acts">
      <button
        class="button"
        disabled={!bench.result}
        title="Keep it beside what comes next (K)"
        onclick={() => bench.pin()}>Pin</button
      >
      {#each pinned as pin (pin.letter)}
        <button class="button pin" title="Unpin" onclick={() => bench.unpin(pin.letter)}
          ><b>{pin.letter}</b> {pin.label} x</button
        >
      {/each}
      <span class="space"></span>
      <SaveAs
        name="{bench.label} {bench.test}"
        disabled={!bench.result}
        csv={table}
        json={() => bench.result}
        png={(take) => chart?.image(take)}
      />
    </p>
  </section>
  <aside
    aria-label="Figures of the bench"
    data-revision={bench.revision}
    data-test={bench.result?.test ?? ''}
  >
    <h2>
      Figures <span class="soft">{TESTS.find(([name]) => name === bench.result?.test)?.[1] ?? ''}</span>
    </h2>
    <table>
      {#if pinned.length}
        <thead
          ><tr class="soft"
            ><th></th><th>now</th>{#each pinned as pin (pin.letter)}<th>{pin.letter}</th>{/each}</tr
          ></thead
        >
      {/if}
      <tbody>
        {#each figures as figure (figure.name)}
          <tr data-figure={figure.name}>
            <th>{figure.label} <span class="soft">{figure.unit}</span></th>
            <td class="figure"
              ><button class="copy" title="Copy" onclick={() => copy(figure.value)}
                >{figureText(figure.value)}</button
              ></td
            >
            {#each pinned as pin (pin.letter)}<td class="figure soft"
                >{figureText(other(pin.letter, figure.name))}</td
              >{/each}
          </tr>
        {/each}
      </tbody>
    </table>
    {#if bench.result?.test === 'harmonics'}
      <h3 class="soft">Against level</h3>
      <table class="ladder">
        <thead><tr class="soft"><th>in, dBFS</th><th>THD, dB</th><th>THD+N</th></tr></thead>
        <tbody>
          {#each bench.result.table as row (row[0])}
            <tr
              ><td class="figure">{row[0]}</td><td class="figure">{row[2]!.toFixed(1)}</td><td class="figure"
                >{row[3]!.toFixed(1)}</td
              ></tr
            >
          {/each}
        </tbody>
      </table>
    {/if}
  </aside>
</main>

<style>
  .bench {
    height: 100%;
    min-height: 0;
    display: grid;
    grid-template:
      'tree path figures' var(--path)
      'tree stand figures' minmax(0, 1fr) / 248px minmax(0, 1fr) 264px;
  }
  .tree {
    grid-area: tree;
    border-right: 1px solid var(--line);
    min-height: 0;
  }
  .path {
    grid-area: path;
    border-bottom: 1px solid var(--line);
    min-width: 0;
  }
  .stand {
    grid-area: stand;
    min-width: 0;
    min-height: 0;
    display: grid;
    grid-template-rows: 40px auto minmax(180px, 1fr) auto;
    padding: 0 12px 8px;
  }
  aside {
    grid-area: figures;
    border-left: 1px solid var(--line);
    padding: 8px 12px;
    min-height: 0;
    overflow: auto;
  }
  header,
  .acts {
    display: flex;
    align-items: center;
    gap: 8px;
    white-space: nowrap;
    min-width: 0;
  }
  header h2 {
    overflow: hidden;
    text-overflow: ellipsis;
    font-size: 0.9375rem;
  }
  header :global(.segments button) {
    padding: 0 8px;
  }
  .acts {
    margin: 8px 0 0;
    flex-wrap: wrap;
  }
  .space {
    flex: 1;
  }
  .asked {
    display: grid;
    grid-template-columns: repeat(4, minmax(0, 1fr));
    column-gap: 20px;
    align-items: center;
    min-height: 2.3125rem;
  }
  .picture {
    min-height: 0;
    padding-top: 6px;
  }
  table {
    width: 100%;
    border-collapse: collapse;
    margin-bottom: 12px;
  }
  th,
  td {
    height: 1.375rem;
    padding: 0;
    font-weight: 400;
    text-align: right;
    border-bottom: 1px solid var(--line);
  }
  th:first-child {
    text-align: left;
  }
  .ladder th:first-child,
  .ladder td {
    text-align: right;
  }
  .copy {
    min-width: 24px;
    min-height: 1.5rem;
    border: 0;
    padding: 0;
  }
  @media (max-width: 68.6875em) {
    .bench {
      grid-template:
        'tree path' var(--path)
        'tree stand' minmax(0, 1fr)
        'figures figures' 180px / 220px minmax(0, 1fr);
    }
    aside {
      border-left: 0;
      border-top: 1px solid var(--line);
    }
  }
  @media (max-width: 47.5em) {
    .bench {
      display: flex;
      flex-direction: column;
      overflow: auto;
    }
    .bench > * {
      flex: none;
    }
    .path {
      height: var(--path);
    }
    .stand {
      height: 520px;
    }
    header {
      overflow-x: auto;
    }
    .tree {
      order: 1;
    }
  }
</style>
