<script lang="ts">
  /** The loudness target: what a player that holds it does to this master, whole and by section, with the contrast beside it. */
  import { numberText } from '../number';
  import { contrast } from '../state/contrast.svelte';
  import { delivery } from '../state/delivery.svelte';
  import { workspace } from '../state/workspace.svelte';
  import FigureTable from '../tables/FigureTable.svelte';
  import TypedNumber from './TypedNumber.svelte';

  const setup = $derived(delivery.setup!);
  const playback = $derived(delivery.check?.playback ?? null);
  const master = $derived(delivery.checked?.master ?? null);
  const targets = $derived(delivery.options?.targets ?? []);
  const named = $derived(
    targets.find(
      (target) =>
        target.loudness_lufs === setup.loudness_lufs && target.true_peak_dbtp === setup.true_peak_dbtp,
    )?.name ?? '',
  );
  const main = $derived(
    contrast.answer?.rows.find(({ scope }) => scope.strip_id === 'main' && !scope.step_id && !scope.lane_id)
      ?.contrast ?? null,
  );
  const wish = $derived(workspace.session?.keep_contrast_lu ?? 0);

  // The answer depends on the target.
  $effect(() => {
    void [setup.loudness_lufs, setup.true_peak_dbtp, workspace.version?.revision];
    void delivery.refresh();
  });

  function choose(name: string): void {
    const target = targets.find((one) => one.name === name);
    if (target) delivery.set({ loudness_lufs: target.loudness_lufs, true_peak_dbtp: target.true_peak_dbtp });
  }
</script>

<aside aria-label="Loudness target and figures">
  <h2>Loudness target</h2>
  <div class="row">
    <select
      aria-label="Ready-made target"
      value={named}
      onchange={(event) => choose(event.currentTarget.value)}
    >
      <option value="">{named ? 'Typed' : 'Typed:'}</option>
      {#each targets as target (target.name)}
        <option value={target.name} title={target.help}>{target.name}</option>
      {/each}
    </select>
    <TypedNumber
      label="Loudness target"
      unit="LUFS"
      low={-60}
      high={0}
      value={setup.loudness_lufs}
      change={(value) => delivery.set({ loudness_lufs: value })}
    />
  </div>
  <div class:old={delivery.check?.stale}>
    {#if playback}
      <p class="says" data-figure="playback">{playback.text}</p>
      {#if playback.hint}<p class="hint" data-hint="spared">{playback.hint}</p>{/if}
    {:else}<p class="soft">Run the check: it says what a player at this target does to the master.</p>{/if}
    {#if master}
      <h2>Master</h2>
      <FigureTable figures={workspace.described.figuresIn('master')} of={master} />
      {#if playback?.played_lufs != null}<p class="soft">
          Played at <span class="figure" data-figure="played">{numberText(playback.played_lufs)}</span> LUFS
        </p>{/if}
    {/if}
    {#if playback?.sections.length}
      <h2>Sections <span class="soft">LUFS</span></h2>
      <table data-table="played">
        <thead
          ><tr class="soft"><th></th><th>master</th><th>played</th><th title="Peak over RMS">crest</th></tr
          ></thead
        >
        <tbody>
          {#each playback.sections as section, place (place)}
            <tr
              ><th title={section.name}>{section.name}</th><td class="figure"
                >{numberText(section.integrated_lufs)}</td
              ><td class="figure">{numberText(section.played_lufs)}</td><td class="figure"
                >{numberText(section.crest_db)}</td
              ></tr
            >
          {/each}
        </tbody>
      </table>
    {/if}
  </div>
  <h2>Contrast <span class="soft">of the main</span></h2>
  {#if main && main.after_lu !== null}
    <p data-figure="contrast">
      {numberText(main.before_lu)} LU came in, {numberText(main.after_lu)} go out{#if wish > 0}; {wish} are to be
        kept{/if}. No player changes it.
    </p>
    {#each main.hints as hint (hint.name)}<p class="hint">{hint.text}</p>{/each}
  {:else}<p class="soft">
      {contrast.asking.fraction !== null || contrast.waiting || !contrast.answer
        ? 'Measuring ...'
        : 'It needs two sections.'}
    </p>{/if}
</aside>

<style>
  aside {
    --row: 1.375rem;
    --row-narrow: 1.375rem;
    padding: 8px 12px;
    min-width: 0;
  }
  h2 {
    margin: 10px 0 4px;
    border-bottom: 1px solid var(--line);
  }
  h2:first-child {
    margin-top: 0;
  }
  h2 .soft {
    font-weight: 400;
  }
  .row {
    display: flex;
    flex-wrap: wrap;
    align-items: center;
    gap: 6px;
    min-height: 2rem;
  }
  select {
    flex: 1;
    min-width: 0;
  }
  select {
    height: 1.625rem;
    background: var(--plate);
    border: 1px solid var(--edge);
  }
  p {
    margin: 0 0 6px;
    line-height: 1.125rem;
  }
  .says {
    font-weight: 650;
  }
  .hint {
    padding-left: 8px;
    border-left: 3px solid var(--taken);
    font-size: 0.75rem;
    line-height: 1.0625rem;
  }
  .old {
    opacity: 0.6;
  }
  table {
    width: 100%;
    border-collapse: collapse;
  }
  th,
  td {
    height: 1.375rem;
    padding: 0 0 0 6px;
    font-weight: 400;
    text-align: right;
    border-bottom: 1px solid var(--line);
  }
  th:first-child {
    text-align: left;
    padding-left: 0;
    max-width: 96px;
    overflow: hidden;
    text-overflow: ellipsis;
    white-space: nowrap;
  }
</style>
