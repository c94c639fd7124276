<script lang="ts">
  /** What encoders make of the master: overs, true peak, loudness; where the overs are; the safe ceiling. */
  import { numberText } from '../number';
  import Segments from '../controls/Segments.svelte';
  import { clock } from '../draw/scale';
  import { delivery } from '../state/delivery.svelte';
  import { workspace } from '../state/workspace.svelte';
  import * as geometry from '../pictures/geometry/overs';
  import Plot from '../pictures/Plot.svelte';
  import FormatPicker from './FormatPicker.svelte';
  import TypedNumber from './TypedNumber.svelte';

  const setup = $derived(delivery.setup!);
  const checked = $derived(delivery.checked);
  const ceilings = $derived(delivery.check?.ceilings ?? null);
  const wanted = $derived(setup.true_peak_dbtp);
  const WANTED = [0, -0.1, -0.3, -0.5, -1];
  let box = $state.raw({ width: 0, height: 0 });
  const grid = $derived(checked ? geometry.gridShapes(checked, workspace.session?.sections ?? [], box) : []);
  const marks = $derived(checked ? geometry.markShapes(checked, delivery.format, box) : []);

  function pressed(event: MouseEvent & { currentTarget: HTMLElement }): void {
    const edge = event.currentTarget.getBoundingClientRect();
    const over =
      checked && geometry.overAt(event.clientX - edge.left, event.clientY - edge.top, checked, box);
    if (!over) return;
    delivery.choose(over.format);
    void delivery.playAt(over.at_s);
  }
  /** So much is not counted as above. */
  const EXACT = 0.005;
  const over = (value: number | null | undefined, limit: number) =>
    value !== null && value !== undefined && value > limit + EXACT;
  const text = (value: number | null | undefined, digits = 2, signed = false) =>
    numberText(value, digits, signed);
  /** Columns of the ceilings: the formats that were tried. */
  const columns = $derived([...new Set(ceilings?.rows.flatMap((row) => Object.keys(row.peaks_dbtp)) ?? [])]);
  /** The usual ceilings and the safe one; what else was tried on the way there is not shown. */
  const rows = $derived(
    ceilings?.rows.filter(
      (row) => row.ceiling_db === ceilings.safe_db || [-0.1, -0.3, -0.5, -1].includes(row.ceiling_db),
    ) ?? [],
  );
  const when = $derived(
    delivery.check
      ? new Date(delivery.check.made_at * 1000).toLocaleTimeString([], { timeStyle: 'short' })
      : '',
  );
  const safe = $derived(ceilings?.value ?? null);
  const isSet = $derived.by(() => {
    if (!ceilings || safe === null) return false;
    if (!ceilings.step_id) return false;
    return workspace.stepById(ceilings.step_id)?.settings['ceiling_db'] === safe;
  });
</script>

<section class="check" aria-label="Delivery check">
  <header>
    <h2>Delivery check <span class="soft">of {workspace.stripNamed(delivery.master)}</span></h2>
    <span class="space"></span>
    {#if checked}<span
        class="soft"
        class:stale={delivery.check?.stale}
        role="status"
        data-figure="check_state"
        >{delivery.check?.stale ? 'The session was changed after this check.' : `checked at ${when}`}</span
      >{/if}
    <button
      class="button strong"
      data-act="check"
      disabled={delivery.running !== null}
      onclick={() => delivery.runCheck()}>{delivery.running === 'check' ? 'Checking ...' : 'Check'}</button
    >
  </header>
  <div class="wish">
    <span class="soft">Encoders</span>
    <FormatPicker
      label="Encoders"
      chosen={setup.encoders}
      change={(names) => delivery.set({ encoders: names })}
    />
    <span class="soft">True peak wanted</span>
    <div class="peak">
      <Segments
        label="True peak wanted"
        options={WANTED.map((value) => [String(value), text(value, value ? 1 : 0)] as const)}
        value={String(wanted)}
        change={(value) => delivery.set({ true_peak_dbtp: Number(value) })}
      />
      <TypedNumber
        label="True peak wanted"
        unit="dBTP"
        low={-24}
        high={0}
        value={wanted}
        change={(value) => delivery.set({ true_peak_dbtp: value })}
      />
    </div>
  </div>
  {#if delivery.check?.set_aside}<p class="soft" data-set-aside>{delivery.check.set_aside}.</p>{/if}
  {#if checked}
    <div class="scroll" class:old={delivery.check?.stale} aria-busy={delivery.running === 'check'}>
      <table data-table="check">
        <thead>
          <tr class="soft">
            <th>Format</th>
            <th title="Of what the decoder gives back">True peak, dBTP</th>
            <th title="Of the true peak against the master">Rise, dB</th>
            <th title="Samples above full scale">Sample overs</th>
            <th title="Places where the true peak is above what was wanted"
              >Above {text(checked.true_peak_dbtp, 1)}</th
            >
            <th>Loudness change, LU</th>
            <th>kbit/s</th>
          </tr>
        </thead>
        <tbody>
          <tr data-row="master">
            <th>Master, 32-bit float</th>
            <td class="figure" class:over={over(checked.master.true_peak_dbtp, checked.true_peak_dbtp)}
              >{text(checked.master.true_peak_dbtp)}</td
            >
            <td></td><td></td>
            <td class="figure">{checked.master_over_count}</td><td></td><td></td>
          </tr>
          {#each checked.formats as one, number (one.format)}
            <tr data-row={one.format} class:on={one === delivery.format}>
              <th
                ><button
                  class="link"
                  aria-pressed={one === delivery.format}
                  title="Listen to this one, and list its overs ({number + 1})"
                  onclick={() => delivery.choose(one.format)}>{one.label}</button
                ></th
              >
              <td
                class="figure"
                data-figure="true_peak"
                class:over={over(one.figures.true_peak_dbtp, checked.true_peak_dbtp)}
                >{text(one.figures.true_peak_dbtp)}</td
              >
              <td class="figure" data-figure="rise">{text(one.rise_db, 2, true)}</td>
              <td class="figure" class:over={one.sample_overs > 0}
                >{one.clipped ? `${one.clipped} clipped` : one.sample_overs}</td
              >
              <td class="figure" data-figure="overs">{one.over_count}</td>
              <td class="figure">{text(one.loudness_lu, 2, true)}</td>
              <td class="figure">{Math.round(one.bit_rate_kbps)}</td>
            </tr>
          {/each}
        </tbody>
      </table>
    </div>
    {#if checked.formats.length}
      <div class="plate" style:height="{geometry.heightOf(checked) + 2}px">
        <div class="face">
          <Plot
            name="overs-plot"
            label="Where each format is above the true peak that is wanted"
            says={geometry.says(checked)}
            title="Above {text(checked.true_peak_dbtp, 1)} dBTP, over time; a full row is 3 dB"
            layers={[grid, marks]}
            bind:box
            playhead={{
              start_s: checked.start_s,
              end_s: checked.start_s + checked.length_s,
              left: geometry.LEFT,
              right: geometry.RIGHT,
              top: geometry.TOP,
              bottom: geometry.BOTTOM,
            }}
          >
            <!-- svelte-ignore a11y_click_events_have_key_events, a11y_no_static_element_interactions -->
            <div class="press" title="Press a mark to play there" onclick={pressed}></div>
          </Plot>
        </div>
      </div>
    {/if}
    {#if delivery.format}
      <div class="overs">
        <span class="soft"
          >{delivery.format.over_count
            ? `${delivery.format.label} is above ${text(checked.true_peak_dbtp, 1)} dBTP at`
            : `${delivery.format.label} stays at or below ${text(checked.true_peak_dbtp, 1)} dBTP.`}</span
        >
        <ul aria-label="Overs of {delivery.format.label}">
          {#each delivery.format.overs as one (one.at_s)}
            <li>
              <button
                class="link figure"
                title="{text(one.true_peak_dbtp)} dBTP; play from a second before it"
                onclick={() => delivery.playAt(one.at_s)}>{clock(one.at_s)}</button
              >
            </li>
          {/each}
        </ul>
      </div>
    {/if}
  {:else}
    <p class="soft">
      Encoders raise peaks, the lower the bit rate the more. Check encodes, decodes and measures the master
      with each, and then it can be heard: Z the master, X what is decoded, C the difference.
    </p>
  {/if}
  <header>
    <h2>Safe ceiling</h2>
    <span class="space"></span>
    {#if ceilings && delivery.check?.ceilings_stale}<span class="soft stale" role="status"
        >The session was changed after this.</span
      >{/if}
    <button
      class="button strong"
      data-act="ceiling"
      disabled={delivery.running !== null || !setup.encoders.length}
      title="Tries ceilings until no encoder comes out above what is wanted. It takes several renders."
      onclick={() => delivery.findCeiling()}
      >{delivery.running === 'ceiling' ? 'Looking ...' : 'Find safe ceiling'}</button
    >
  </header>
  {#if ceilings}
    <p data-figure="safe">
      {ceilings.text}
      {#if safe !== null}
        <button
          class="button"
          data-act="apply ceiling"
          disabled={isSet}
          onclick={() => delivery.applyCeiling()}
          >{isSet
            ? 'It is set'
            : ceilings.step_id
              ? `Set the ceiling to ${safe} dB`
              : `Set the level to ${safe} dB`}</button
        >
      {/if}
    </p>
    <div class="scroll" class:old={delivery.check?.ceilings_stale}>
      <table data-table="ceilings">
        <thead>
          <tr class="soft">
            <th
              title={ceilings.step_id
                ? 'Of the last limiter'
                : 'The peak that the level brings the master to'}>Ceiling, dB</th
            >
            <th>Master</th>
            {#each columns as name (name)}<th title="True peak, dBTP">{delivery.label(name)}</th>{/each}
          </tr>
        </thead>
        <tbody>
          {#each rows as row (row.ceiling_db)}
            <tr class:on={row.ceiling_db === ceilings.safe_db} data-row={row.ceiling_db}>
              <th class="figure"
                >{text(row.ceiling_db)}{row.ceiling_db === ceilings.safe_db ? ' safe' : ''}</th
              >
              <td class="figure">{text(row.master_dbtp)}</td>
              {#each columns as name (name)}
                <td class="figure" class:over={over(row.peaks_dbtp[name], wanted)}
                  >{text(row.peaks_dbtp[name])}</td
                >
              {/each}
            </tr>
          {/each}
        </tbody>
      </table>
    </div>
  {:else}
    <p class="soft">
      The highest ceiling of the last limiter (without one, the highest level) at which no encoder comes out
      above the true peak that is wanted, beside -0.1, -0.3, -0.5 and -1 dB.
    </p>
  {/if}
</section>

<style>
  .check {
    display: flex;
    flex-direction: column;
    gap: 6px;
    min-width: 0;
  }
  header {
    display: flex;
    align-items: center;
    gap: 8px;
    min-height: 2rem;
    margin-top: 6px;
    border-bottom: 1px solid var(--line);
  }
  h2 .soft {
    font-weight: 400;
  }
  .space {
    flex: 1;
  }
  .strong {
    font-weight: 650;
  }
  .wish {
    display: grid;
    grid-template-columns: auto minmax(0, 1fr);
    gap: 6px 12px;
    align-items: center;
  }
  .peak {
    display: flex;
    flex-wrap: wrap;
    align-items: center;
    gap: 6px;
  }
  p {
    margin: 0;
    line-height: 1.125rem;
  }
  .stale,
  .over {
    color: var(--taken);
  }
  .over {
    font-weight: 650;
  }
  .old {
    opacity: 0.6;
  }
  .scroll {
    overflow-x: auto;
  }
  table {
    width: 100%;
    border-collapse: collapse;
  }
  th,
  td {
    height: 1.5rem;
    padding: 0 0 0 10px;
    font-weight: 400;
    text-align: right;
    border-bottom: 1px solid var(--line);
  }
  thead th {
    line-height: 1rem;
    padding-bottom: 2px;
    vertical-align: bottom;
  }
  th:first-child {
    text-align: left;
    padding-left: 0;
    white-space: nowrap;
  }
  .on th,
  .on td {
    background: var(--plate);
  }
  .on th {
    font-weight: 650;
  }
  .link {
    border: 0;
    padding: 0;
    min-height: 1.5rem;
    min-width: 1.5rem;
    text-decoration: underline;
    text-decoration-color: var(--line);
  }
  .press {
    position: absolute;
    inset: 0;
    cursor: pointer;
  }
  .plate {
    flex: none;
  }
  .overs {
    display: flex;
    gap: 8px;
    align-items: baseline;
  }
  .overs > span {
    flex: none;
  }
  .overs ul {
    display: flex;
    flex-wrap: wrap;
    gap: 0 8px;
    list-style: none;
    margin: 0;
    padding: 0;
    max-height: 4.5rem;
    overflow: auto;
  }
</style>
