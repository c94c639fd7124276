<script lang="ts">
  /** The way of a delivery as it is done, from left to right: render, limiter, sample rate, dither, container. */
  import type { Strip } from '../api/client';
  import { clock } from '../draw/scale';
  import { delivery } from '../state/delivery.svelte';
  import { workspace } from '../state/workspace.svelte';
  import FormatPicker from './FormatPicker.svelte';

  const setup = $derived(delivery.setup!);
  const strip = $derived<Strip | undefined>(
    workspace.session?.strips.find((strip) => strip.id === delivery.master),
  );
  const limiter = $derived(strip?.path.steps.findLast((step) => step.kind === 'limiter' && !step.bypass));
  const level = $derived(strip && strip.level_db !== 0 ? `, level ${strip.level_db.toFixed(1)} dB` : '');
  const formats = $derived(setup.formats.map((name) => delivery.formatNamed(name)));
  const rate = $derived(setup.rate_hz ?? workspace.session?.rate_hz ?? 48000);
  /** Of the chosen formats those that cannot have the rate. */
  const others = $derived(
    formats.filter((format) => format && !format.rates.includes(rate)).map((format) => format!.label),
  );
  const bits = $derived([
    ...new Set(formats.filter((format) => format?.dithered).map((format) => format!.bits)),
  ]);
  const curve = $derived(delivery.options?.dither.find((dither) => dither.rate_hz === rate));
  const length = $derived(
    setup.extent === 'passage'
      ? `passage, ${clock(workspace.listening.passage.end_s - workspace.listening.passage.start_s)}`
      : [
          setup.extent === 'sections' ? '' : `whole song, ${clock(workspace.version?.length_s ?? 0)}`,
          setup.extent === 'whole' ? '' : `${workspace.session?.sections.length ?? 0} sections`,
        ]
          .filter(Boolean)
          .join(', '),
  );
  const RATES = [44100, 48000, 88200, 96000];
</script>

<ol class="chain" aria-label="How a file is made">
  <li class="plate">
    <div class="face">
      <b>Render</b><span class="soft">32-bit float, {length}</span>
    </div>
  </li>
  <li class="plate">
    <div class="face">
      <b>{limiter ? 'Limiter' : 'Level'}</b>
      <span class="soft" data-figure="chain_limiter">
        {#if limiter}ceiling {Number(limiter.settings['ceiling_db']).toFixed(1)} dB, {limiter.settings[
            'peaks'
          ]}{level}
        {:else}{strip?.name ?? 'Main'}: no limiter{level}{/if}</span
      >
    </div>
  </li>
  <li class="plate">
    <div class="face">
      <b>Sample rate</b>
      <select
        aria-label="Sample rate"
        value={String(setup.rate_hz ?? '')}
        onchange={(event) =>
          delivery.set({ rate_hz: (Number(event.currentTarget.value) || null) as typeof setup.rate_hz })}
      >
        <option value="">as session</option>
        {#each RATES as hz (hz)}<option value={String(hz)}>{hz / 1000} kHz</option>{/each}
      </select>
      <span class="soft"
        >{#if others.length}{others.join(', ')}: at the nearest it can have{:else if !setup.rate_hz}{rate /
            1000} kHz{/if}</span
      >
    </div>
  </li>
  <li class="plate">
    <div class="face">
      <b>Dither <span class="soft">last, once</span></b>
      <select
        aria-label="Dither"
        value={setup.dither}
        disabled={!bits.length}
        onchange={(event) => delivery.set({ dither: event.currentTarget.value as typeof setup.dither })}
      >
        <option value="tpdf">TPDF, white</option>
        <option value="shaped">TPDF, shaped at 16 bit</option>
      </select>
      <span class="soft">
        {#if !bits.length}No dither needed (float)
        {:else if setup.dither === 'shaped' && bits.includes(16)}{curve
            ? `softest where hearing is keenest; ${curve.power_db.toFixed(1)} dB more in all`
            : ''}
        {:else}{bits.join(' and ')} bit{/if}</span
      >
    </div>
  </li>
  <li class="plate files">
    <div class="face">
      <b>Files</b>
      <FormatPicker
        label="Formats"
        chosen={setup.formats}
        least={1}
        change={(names) => delivery.set({ formats: names })}
      />
    </div>
  </li>
</ol>

<style>
  .chain {
    list-style: none;
    margin: 0;
    padding: 0;
    display: grid;
    grid-template-columns: repeat(2, minmax(100px, 1fr)) repeat(2, minmax(124px, 1.1fr)) minmax(150px, 1.4fr);
    gap: 16px;
  }
  .plate {
    position: relative;
    display: flex;
  }
  .face {
    flex: 1;
    min-width: 0;
    display: flex;
    flex-direction: column;
    gap: 4px;
    padding: 6px 8px;
  }
  .plate + .plate::before {
    content: '';
    position: absolute;
    left: -13px;
    top: 15px;
    width: 8px;
    height: 8px;
    border: solid var(--ink-soft);
    border-width: 1px 1px 0 0;
    transform: rotate(45deg);
  }
  select {
    height: 1.625rem;
    min-width: 0;
    background: var(--plate);
    border: 1px solid var(--edge);
  }
  .soft {
    font-size: 0.75rem;
    line-height: 1rem;
    font-weight: 400;
  }
  @media (max-width: 78em) {
    .chain {
      grid-template-columns: repeat(auto-fill, minmax(140px, 1fr));
      gap: 8px 16px;
    }
  }
</style>
