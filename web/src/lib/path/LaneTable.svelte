<script lang="ts">
  /** All lanes of a split side by side: what listens, how loud, and the main rules of the step that stands for each. */
  import { makeUp } from '../state/make-up.svelte';
  import { numberText } from '../number';
  import type { Lane, Setting, Step } from '../api/client';
  import Slider from '../controls/Slider.svelte';
  import { format } from '../controls/value';
  import { bandsState, mainStep, takenDb } from '../state/bands.svelte';
  import { addCeiling, linkAll, setLane, spanOf } from '../state/splits';
  import { workspace } from '../state/workspace.svelte';
  import Rule from './Rule.svelte';

  let { split }: { split: Step } = $props();
  const CEILING_DB = -6;
  const lanes = $derived(split.lanes ?? []);
  const mains = $derived(lanes.map((lane) => mainStep(lane)));
  /** Each main rule of each kind of step there is, once. */
  const rows = $derived.by(() => {
    const result: { kind: string; setting: Setting }[] = [];
    for (const step of mains) {
      const processor = step && workspace.described.processor(step.kind);
      for (const name of processor?.main ?? []) {
        const setting = processor!.settings.find((candidate) => candidate.name === name)!;
        if (!result.some((row) => row.kind === step!.kind && row.setting.name === name))
          result.push({ kind: step!.kind, setting });
      }
    }
    return result;
  });
  const kinds = $derived(new Set(rows.map((row) => row.kind)));
  const applies = (setting: Setting, step: Step) =>
    Object.entries(setting.when).every(([name, values]) => values.includes(String(step.settings[name])));
  const ceilingOf = (lane: Lane) => {
    const last = lane.path.steps.at(-1);
    return last?.kind === 'limiter' && !last.bypass ? last : null;
  };
  const ceiling = $derived(
    workspace.described.processor('limiter')?.settings.find((setting) => setting.name === 'ceiling_db'),
  );
</script>

<div class="table" style:--lanes={lanes.length} role="table" aria-label="Lanes">
  <span class="corner">
    <button
      class="button"
      title="A setting moved in one linked lane moves in all"
      onclick={() => linkAll(workspace, split)}
      >{lanes.every((lane) => lane.linked) ? 'Unlink all' : 'Link all'}</button
    >
  </span>
  {#each lanes as lane, index (lane.id)}
    <span class="head">
      <button
        class="name"
        onclick={() => workspace.selection.choose(workspace.selection.stripId, null, lane.id)}
        ><b>{lane.name}</b> <span class="soft figure">{spanOf(split, index)}</span></button
      >
      <button
        class="act"
        class:on={lane.linked}
        aria-pressed={lane.linked}
        aria-label="Link {lane.name}"
        onclick={() => setLane(workspace, lane, { linked: !lane.linked })}>=</button
      >
    </span>
  {/each}
  <span class="label">Level</span>
  {#each lanes as lane (lane.id)}
    <Rule
      bare
      address={{ of: 'lane', id: lane.id, name: 'level_db' }}
      of={lane.name}
      mark="level {lane.name}"
      value={lane.level_db}
    />
  {/each}
  {#each rows as { kind, setting } (`${kind} ${setting.name}`)}
    <span class="label" title={setting.help}
      >{setting.label}{kinds.size > 1 ? ` (${workspace.described.processor(kind)?.label ?? kind})` : ''}</span
    >
    {#each lanes as lane, index (lane.id)}
      {@const step = mains[index]}
      {#if step && step.kind === kind && applies(setting, step)}
        <Rule
          bare
          address={{ of: 'step', id: step.id, name: setting.name }}
          {setting}
          of={lane.name}
          mark="{setting.name} {lane.name}"
          value={step.settings[setting.name]!}
        />
      {:else}<span class="none soft">--</span>{/if}
    {/each}
  {/each}
  <span class="label">GR ({workspace.listening.playing ? 'now' : 'max'})</span>
  {#each lanes as lane (lane.id)}
    {@const taken = takenDb(lane)}
    <span class="cell figure" data-figure="taken {lane.name}"
      >{taken === null ? '--' : format(taken, 'dB')}</span
    >
  {/each}
  <span class="label">Loudness change</span>
  {#each lanes as lane (lane.id)}
    {@const moved = bandsState.of(lane)?.loudness_moved_lu}
    <span class="cell">
      <button
        class="button"
        title="Make up loudness: sets the level so that the lane is as loud after its steps as before"
        aria-busy={makeUp.waiting.includes(lane.id)}
        onclick={() => void makeUp.ask(lane)}
        >{makeUp.waiting.includes(lane.id) ? 'Measuring' : 'Make up'}</button
      >
      <span class="figure">{moved === undefined ? '--' : `${numberText(moved, 1, true)} LU`}</span>
    </span>
  {/each}
  <span class="label">Ceiling</span>
  {#each lanes as lane (lane.id)}
    {@const limiter = ceilingOf(lane)}
    {#if limiter && ceiling}
      <Slider
        bare
        setting={ceiling}
        of={lane.name}
        mark="ceiling {lane.name}"
        value={limiter.settings['ceiling_db']!}
        change={(value, gesture) => workspace.set(limiter.id, { ceiling_db: value }, gesture)}
      />
    {:else}
      <span class="cell">
        <button
          class="button"
          aria-label="Give {lane.name} a ceiling"
          onclick={() => addCeiling(workspace, lane, CEILING_DB)}>Add at {CEILING_DB} dB</button
        >
      </span>
    {/if}
  {/each}
</div>

<style>
  .table {
    display: grid;
    grid-template-columns: minmax(5.25rem, auto) repeat(var(--lanes), minmax(0, 1fr));
    column-gap: 14px;
    align-items: center;
    align-content: start;
    line-height: 1.125rem;
  }
  .head {
    display: flex;
    align-items: center;
    gap: 4px;
    border-bottom: 1px solid var(--line);
    height: 1.375rem;
    min-width: 0;
  }
  .name {
    flex: 1;
    min-width: 0;
    border: 0;
    padding: 0;
    text-align: left;
    overflow: hidden;
    white-space: nowrap;
    text-overflow: ellipsis;
  }
  .corner {
    border-bottom: 1px solid var(--line);
    height: 1.375rem;
  }
  .corner button,
  .cell button {
    height: 1.125rem;
    line-height: 0.9375rem;
    padding: 0 5px;
    font-size: 0.75rem;
  }
  .label {
    white-space: nowrap;
    overflow: hidden;
    text-overflow: ellipsis;
  }
  .cell {
    display: flex;
    justify-content: space-between;
    align-items: center;
    height: 1.3125rem;
    white-space: nowrap;
  }
  .cell .figure {
    font-size: 0.6875rem;
    letter-spacing: -0.03em;
  }
  .none {
    text-align: right;
  }
</style>
