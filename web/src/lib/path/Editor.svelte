<script lang="ts">
  /** The editor of the chosen step (or of the strip itself): pictures first, then rules in groups. */
  import type { Setting, SettingValue, Step } from '../api/client';
  import Choice from '../controls/Choice.svelte';
  import Dividers from '../controls/Dividers.svelte';
  import Points from '../controls/Points.svelte';
  import Resonances from '../controls/Resonances.svelte';
  import { toolbar } from '../controls/toolbar';
  import Pictures from '../pictures/Pictures.svelte';
  import { format } from '../controls/value';
  import { aiming } from '../state/aiming.svelte';
  import { slots } from '../state/slots.svelte';
  import { workspace } from '../state/workspace.svelte';
  import { divide, splitName } from '../state/splits';
  import { listenToKey } from '../state/scope';
  import { bypassSteps, removeStep, swapOrder, swapPartner } from '../state/steps';
  import GateState from './GateState.svelte';
  import LaneRules from './LaneRules.svelte';
  import KeyRules from './KeyRules.svelte';
  import LaneTable from './LaneTable.svelte';
  import LeverBar from './LeverBar.svelte';
  import LinkRules from './LinkRules.svelte';
  import Rule from './Rule.svelte';
  import MatchLine from './MatchLine.svelte';
  import PathPresets from './PathPresets.svelte';
  import Starts from './Starts.svelte';
  import StripRules from './StripRules.svelte';

  let { bands }: { bands: number } = $props();

  const step = $derived(workspace.selection.step);
  const strip = $derived(workspace.selection.strip);
  const processor = $derived(step ? workspace.described.processor(step.kind) : undefined);
  const gateState = $derived(
    workspace.listening.playing && step ? workspace.listening.header?.gate_states[step.id] : undefined,
  );
  const result = $derived(workspace.selection.context);
  const lane = $derived(workspace.selection.lane);
  const split = $derived(step?.lanes ? step : null);
  /** What is edited: the step, the lane, or the strip itself. */
  const title = $derived(split ? splitName(split) : (processor?.label ?? lane?.name ?? strip?.name ?? ''));
  const trail = $derived([
    strip?.name ?? '',
    ...(result?.trail ?? []).flatMap((part) => [splitName(part.split), part.lane.name]),
  ]);
  let starting = $state(false);

  function applies(setting: Setting, of: Step): boolean {
    return Object.entries(setting.when).every(([name, values]) => values.includes(String(of.settings[name])));
  }
  const groups = $derived.by(() => {
    if (!processor || !step) return [];
    const result: { name: string; settings: Setting[] }[] = [];
    for (const setting of processor.settings.filter(
      (candidate) => applies(candidate, step) && candidate.name !== 'by', // a split stays what it is
    )) {
      const group = result.find((candidate) => candidate.name === setting.group);
      if (group) group.settings.push(setting);
      else result.push({ name: setting.group, settings: [setting] });
    }
    return result;
  });
  /** The group that holds what the detector listens to. */
  const keyGroup = $derived((groups.find((group) => group.name === 'Detector') ?? groups[0])?.name);

  /** What the step runs with otherwise than its document says. */
  const now = $derived((step && workspace.version?.resolved[step.id]) ?? {});
  const put = (name: string, value: SettingValue, gesture: string | null) =>
    workspace.set(step!.id, { [name]: value }, gesture);
</script>

<section class="editor" aria-label="Editor">
  <header {@attach toolbar}>
    <h2>{title}</h2>
    <span class="soft trail">{step || trail.length > 1 ? trail.join(' > ') : 'strip'}</span>
    {#if workspace.measuring.study && workspace.measuring.study.latency_ms > 0 && !(step && workspace.routing?.low_latency_changes[step.id])}
      <span class="figure soft" title="Latency of this scope; everything else is delayed to match.">
        Latency {workspace.measuring.study.latency_ms.toFixed(1)} ms
      </span>
    {/if}
    {#if workspace.listening.order && step && [workspace.listening.order.step_id, workspace.listening.order.other_id].includes(step.id)}
      <span
        class="figure soft"
        data-figure="order"
        title="Both orders are matched for listening; the render is not changed by it"
      >
        {workspace.listening.matched
          ? `order matched ${format(workspace.listening.order.gain_db, 'dB')}`
          : 'orders not matched'}
      </span>
    {/if}
    {#if slots.scope?.stored.on}<span class="figure soft" data-figure="slot"
        >slot {slots.scope.stored.on}{slots.compared?.changed ? ', changed' : ''}</span
      >{/if}
    {#if gateState}<GateState state={gateState} word />{/if}
    <span class="space"></span>
    {#if aiming.aims.length}
      <button
        class="button"
        aria-haspopup="dialog"
        data-act="aim"
        title="Ask for a result, such as GR of 2 dB, and have the setting found (I)"
        onclick={() => (workspace.aimOpen = true)}>Aim</button
      >
    {/if}
    {#if step && processor}
      {#if !split}
        {#if result?.lane}
          <button
            class="button"
            title="The same step, with its settings, in every lane"
            onclick={() => workspace.edit({ op: 'copy_to_lanes', step_id: step.id })}
            >Copy to the other lanes</button
          >
        {:else}
          <button
            class="button"
            title="The step goes into each of {bands} bands, with its settings"
            onclick={() => divide(workspace, 'bands', bands)}>Make multiband</button
          >
        {/if}
      {/if}
      {#if swapPartner(workspace)}
        <button
          class="button"
          title="Swap with its neighbour, and compare both orders matched (R)"
          onclick={() => swapOrder(workspace)}>Swap</button
        >
      {/if}
      <button class="button" aria-haspopup="dialog" onclick={() => (starting = !starting)}
        >{split ? 'Ready-made' : 'Starting points'}</button
      >
      {#if starting && split}<PathPresets close={() => (starting = false)} />
      {:else if starting}<Starts {step} {processor} close={() => (starting = false)} />{/if}
      {#if split?.settings['by'] === 'copies'}
        <button class="button" onclick={() => workspace.edit({ op: 'add_lane', step_id: step.id })}
          >Add a lane</button
        >
      {/if}
      {#if split}
        <button
          class="button"
          title="Each lane gets a bus of its own, to be mixed there"
          onclick={() => workspace.edit({ op: 'lanes_to_buses', step_id: step.id })}>Lanes to buses</button
        >
      {/if}
      {#if workspace.routing?.low_latency_changes[step.id]}
        <button
          class="button"
          aria-pressed={step.low_latency ?? false}
          title="Low latency: {workspace.routing.low_latency_changes[step.id]}"
          onclick={() => workspace.move('step', step.id, { low_latency: !step.low_latency })}
        >
          {step.low_latency ? 'Low latency' : 'Latency'}
          {(workspace.measuring.study?.latency_ms ?? 0).toFixed(1)} ms
        </button>
      {/if}
      {#if processor.listens}
        <button
          class="button"
          aria-pressed={workspace.listening.to === 'key'}
          title="Listen to the key (G)"
          onclick={() => listenToKey(workspace)}>Listen to key</button
        >
      {/if}
      <button
        class="button"
        aria-pressed={!step.bypass}
        title="Bypass (B)"
        onclick={() => bypassSteps(workspace, [step])}
      >
        {step.bypass ? 'Bypassed' : 'On'}
      </button>
      <button class="button" title="Remove (Del)" onclick={() => removeStep(workspace, step.id)}
        >Remove</button
      >
    {:else if strip}
      <button class="button" aria-haspopup="dialog" onclick={() => (starting = !starting)}>Ready-made</button>
      {#if starting}<PathPresets close={() => (starting = false)} />{/if}
      {#if strip.kind !== 'main' && !lane}
        <button class="button" onclick={() => workspace.edit({ op: 'remove_strip', strip_id: strip.id })}
          >Remove strip</button
        >
      {/if}
    {/if}
  </header>
  <div>
    {#if step && processor}<LinkRules {step} {processor} />{/if}
    <LeverBar />
  </div>
  <Pictures />
  <div
    class="rules"
    class:split={split && groups.length}
    class:alone={split && !groups.length}
    style:--groups={step ? Math.max(groups.length, 1) : 3}
  >
    {#if lane && result?.split}
      {#key lane.id}<LaneRules {lane} split={result.split} />{/key}
    {:else if step}
      {#each groups as group (`${step.id} ${group.name}`)}
        <div class="group">
          <h3 class="soft">{group.name}</h3>
          {#if group.name === keyGroup && processor?.keyed && strip}<KeyRules {step} {strip} />{/if}
          {#each group.settings as setting (setting.name)}
            {@const value = step.settings[setting.name]!}
            {#if setting.type === 'dividers'}
              <Dividers
                value={value as number[]}
                change={(next) => put(setting.name, next, null)}
                add={(frequency_hz) => workspace.edit({ op: 'add_divider', step_id: step.id, frequency_hz })}
                remove={(index) => workspace.edit({ op: 'remove_divider', step_id: step.id, index })}
              />
            {:else if setting.type === 'points'}
              <Points
                {setting}
                value={value as [number, number][]}
                change={(next) => put(setting.name, next, null)}
              />
            {:else if setting.type === 'resonances'}
              <Resonances {setting} />
            {:else if setting.type === 'text'}
              <!-- Written by a study, shown beside its picture. -->
            {:else if setting.type === 'number'}
              <Rule
                address={{ of: 'step', id: step.id, name: setting.name }}
                {setting}
                {value}
                now={now[setting.name]}
              />
            {:else}
              <Choice
                {setting}
                {value}
                now={now[setting.name]}
                differs={slots.differs(step.id, setting.name)}
                change={(next) => put(setting.name, next, null)}
              />
            {/if}
          {/each}
          {#if group.name === (split ? 'Blend' : 'Output') && workspace.version?.compensated.includes(step.id)}
            <MatchLine {step} />
          {/if}
        </div>
      {/each}
      {#if split}<LaneTable {split} />{/if}
    {:else if strip}
      <StripRules {strip} />
    {/if}
  </div>
</section>

<style>
  .editor {
    height: 100%;
    display: grid;
    grid-template-rows: max-content max-content minmax(244px, 1fr) max-content;
    padding: 0 12px 4px;
    min-height: 0;
    overflow: auto;
  }
  header {
    min-width: 0;
    min-height: 2.25rem;
    display: flex;
    flex-wrap: wrap;
    align-items: center;
    gap: 4px 5px;
    white-space: nowrap;
  }
  h2 {
    font-size: 0.9375rem;
  }
  .space {
    flex: 1;
  }
  .rules {
    display: grid;
    grid-template-columns: repeat(var(--groups), minmax(0, 1fr));
    column-gap: 20px;
    padding-top: 4px;
  }
  .alone {
    grid-template-columns: minmax(0, 1fr);
  }
  .split {
    grid-template-columns: repeat(var(--groups), 9.375rem) minmax(0, 1fr);
  }
  .trail {
    min-width: 0;
    overflow: hidden;
    text-overflow: ellipsis;
  }
  .group h3 {
    font-weight: 500;
    border-bottom: 1px solid var(--line);
    height: 1.375rem;
    margin-bottom: 2px;
  }
  @media (max-width: 56.25em) {
    .editor {
      grid-template-rows: auto auto auto auto;
      height: auto;
    }
    .rules {
      grid-template-columns: repeat(2, minmax(0, 1fr));
    }
  }
</style>
