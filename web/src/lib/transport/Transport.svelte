<script lang="ts">
  /** Play and listen: what is pressed most, along the bottom edge. */
  import Segments from '../controls/Segments.svelte';
  import { format } from '../controls/value';
  import { barsAndBeats } from '../draw/grid';
  import { clock } from '../draw/scale';
  import { fills } from '../draw/frames';
  import { numberText } from '../number';
  import { delivery } from '../state/delivery.svelte';
  import { workspace } from '../state/workspace.svelte';

  /** Whether a delivery is compared with its master, instead of before with after. */
  let { compares = false }: { compares?: boolean } = $props();
  const session = $derived(workspace.session);
  const header = $derived(workspace.listening.playing ? workspace.listening.header : null);
  const bar = (side: 0 | 1) => ((workspace.listening.live?.main_peaks_dbfs[side] ?? -160) + 48) / 48;
  const shown = (value: number | undefined) => numberText(value !== undefined && value > -100 ? value : null);
  const matched = $derived(workspace.measuring.study?.ledger.matched_db ?? 0);
  const refused = $derived(workspace.measuring.study?.ledger.matched_refused ?? null);
  /** Whether a step's, a lane's or a path's difference is listened to. */
  const differs = $derived(!compares && workspace.listening.to === 'difference');
  const figure = $derived.by(() => {
    if (!workspace.listening.matched) return 'off';
    if (compares) return format(-(delivery.format?.loudness_lu ?? 0), 'dB');
    if (differs) return format(-(workspace.measuring.study?.linear_gain_db ?? 0) || 0, 'dB');
    return refused ? 'not possible' : format(matched, 'dB');
  });
  const listens = $derived(
    workspace.selection.step && workspace.described.processor(workspace.selection.step.kind)?.listens,
  );
  const loudest = $derived(header ? Math.max(...header.main_true_peaks_dbtp) : undefined);
</script>

<footer
  class="transport"
  data-heard={workspace.listening.heardFrames}
  data-energy={workspace.listening.heardEnergy}
  data-underruns={workspace.listening.underruns}
>
  <div class="run">
    <button
      class="play"
      aria-label={workspace.listening.sounding ? 'Stop' : 'Play'}
      aria-busy={workspace.listening.playing && !workspace.listening.sounding}
      title="Play and stop (Space)"
      onclick={() => workspace.listening.toggle()}
    >
      <svg viewBox="0 0 20 20" aria-hidden="true">
        {#if workspace.listening.sounding}<path d="M4 4h12v12H4z" />{:else}<path d="M3 2l15 8-15 8z" />{/if}
      </svg>
    </button>
    <button
      class="loop"
      class:on={workspace.listening.loop}
      aria-pressed={workspace.listening.loop}
      aria-label="Loop the passage"
      title="Loop (L)"
      onclick={() => workspace.listening.setLoop(!workspace.listening.loop)}
    >
      <svg viewBox="0 0 22 16" aria-hidden="true"><path d="M7 12H3V3h16v9h-7m3-3-3 3 3 3" /></svg>
    </button>
    <span class="figure place" aria-label="Position, bars and beats">
      {session ? barsAndBeats(workspace.listening.position_s, workspace.grid) : ''}
    </span>
    <span class="when">
      <span class="figure soft clock">{clock(workspace.listening.position_s)}</span>
      {#if header && !header.exact}
        <span
          class="approximate"
          title="This play began where the song has not been rendered yet: what remembers for long (slow gain, rooms) may differ a little from a file. It is exact once the song has been rendered, some seconds after the last edit."
          >approximate</span
        >
      {/if}
    </span>
    <span class="passage" title="The passage that is listened to and measured"
      >{workspace.listening.passage.name}</span
    >
  </div>
  {#if compares}
    {@const codec = delivery.format?.label ?? 'decoded'}
    <Segments
      label="Listen to"
      value={delivery.to}
      change={(value) => delivery.hear(value)}
      options={[
        ['session', 'Session', 'The session as it is now'],
        ['master', 'Master', 'The master as it was checked (Z)'],
        ['decoded', 'Decoded', `What the decoder gives back: ${codec} (X)`],
        ['difference', 'Difference', `Master minus decoded: what ${codec} takes away or adds (C)`],
      ]}
    />
  {:else}
    <Segments
      label="Listen to"
      value={workspace.listening.to}
      change={(value) => workspace.listening.listenTo(value)}
      options={[
        ['before', 'Before', 'Input of the selected step, lane or strip (Z)'],
        ['after', 'After', 'Output of the selected step, lane or strip (X)'],
        ['difference', 'Difference', 'Before minus after: what was removed or added (C)'],
        ...(workspace.selection.context?.lane
          ? ([['solo lane', 'Solo lane', 'The lane alone (O)']] as const)
          : []),
        ...(listens ? ([['key', 'Key', 'Listen to the key (G)']] as const) : []),
      ]}
    />
  {/if}
  <button
    class="matched"
    aria-pressed={workspace.listening.matched}
    title={differs
      ? 'The difference without the gain of what is left alone: make-up, drive, output (E). Off: the plain difference.'
      : (refused ?? 'Before is played at the loudness of after (E). Only for listening, never in a file.')}
    onclick={() => workspace.listening.setMatched(!workspace.listening.matched)}
  >
    <i class:on={workspace.listening.matched}></i>{differs ? 'Without gain' : 'Matched'}
    <span class="figure">{figure}</span>
  </button>
  <Segments
    label="Monitor"
    value={workspace.listening.monitor}
    change={(value) => workspace.listening.setMonitor(value)}
    options={[
      ['full range', 'Full range', 'Unchanged'],
      ['small speaker', 'Small speaker', 'Mono, 180 Hz to 9 kHz, no distortion'],
      ['mono', 'Mono', 'Left and right summed'],
      ['dim', 'Dim', '20 dB down'],
    ]}
  />
  <div
    class="main"
    role="group"
    aria-label="Main, after its fader: peaks left and right, short-term loudness, true peak"
    title="Main, after its fader: peaks left and right, short-term loudness (3 s), true peak"
  >
    {#each [0, 1] as const as side (side)}
      <span class="meter"
        ><i {@attach fills(() => bar(side))} class:over={(header?.main_peaks_dbfs[side] ?? -160) > 0}
        ></i></span
      >
    {/each}
    <span class="figure loud" data-figure="short_term">{shown(header?.short_term_lufs)} LUFS short-term</span>
    <span class="figure loud" data-figure="true_peak">{shown(loudest)} dBTP</span>
    {#if header && header.lead_s > 0.305}
      <span
        class="figure lead"
        title="This machine needs more time, so more sound is buffered; edits still sound at once"
        >buffer {Math.round(header.lead_s * 1000)} ms</span
      >
    {/if}
  </div>
</footer>

<style>
  .transport {
    height: 100%;
    display: flex;
    align-items: center;
    justify-content: space-between;
    gap: 6px;
    padding: 0 12px;
    background: var(--plate);
    border-top: 1px solid var(--line);
    white-space: nowrap;
    overflow-x: auto;
  }
  .run {
    display: flex;
    align-items: center;
    gap: 10px;
    flex: none;
  }
  .play,
  .loop {
    padding: 0;
    border: 0;
    display: grid;
    place-items: center;
    height: 2.25rem;
    width: 2rem;
  }
  .play svg {
    width: 1.375rem;
    fill: var(--ink);
  }
  .loop svg {
    width: 1.375rem;
    fill: none;
    stroke: var(--ink-soft);
    stroke-width: 2;
    opacity: 0.6;
  }
  .loop.on svg {
    stroke: var(--after);
    opacity: 1;
  }
  .place {
    font-size: 1rem;
    min-width: 3.875rem;
  }
  .when {
    display: grid;
    min-width: 3.875rem;
  }
  .approximate {
    font-size: 0.6875rem;
    line-height: 0.75rem;
    color: var(--ink-soft);
  }
  .passage {
    max-width: 8.125rem;
    overflow: hidden;
    text-overflow: ellipsis;
  }
  .matched {
    display: flex;
    align-items: center;
    gap: 6px;
    border: 0;
    padding: 0;
    height: 1.75rem;
    min-width: 8.75rem;
  }
  .matched i {
    width: 12px;
    height: 12px;
    border: 1px solid var(--ink-soft);
  }
  .matched i.on {
    background: var(--after);
    border-color: var(--after);
  }
  .main {
    display: grid;
    grid-template-columns: auto auto;
    column-gap: 8px;
    row-gap: 2px;
    align-items: center;
    width: 13.5rem;
  }
  .meter {
    grid-column: 1 / -1;
    height: 6px;
    border: 1px solid var(--line);
    overflow: hidden;
    contain: strict;
  }
  .meter i {
    display: block;
    height: 4px;
    color: var(--after);
    background: linear-gradient(currentcolor, currentcolor) 0 0 / 0 100% no-repeat;
  }
  .meter .over {
    color: var(--taken);
  }
  .loud {
    font-size: 0.6875rem;
    line-height: 0.875rem;
  }
  @media (max-width: 68.6875em) {
    .clock {
      display: none;
    }
  }
  @media (max-width: 51.25em) {
    .transport {
      height: auto;
      min-height: 100%;
      flex-wrap: wrap;
      gap: 4px 12px;
      padding: 4px 12px;
    }
  }
  .lead {
    grid-column: 1 / -1;
    font-size: 0.6875rem;
    line-height: 0.75rem;
    color: var(--taken);
  }
</style>
