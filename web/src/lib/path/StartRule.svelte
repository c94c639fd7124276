<script lang="ts">
  /** Where a track's file begins in the session: typed in seconds, bars or samples, nudged by the arrow keys. */
  import type { Strip } from '../api/client';
  import { pressGestures } from '../controls/arrows';
  import { barsAndBeats, parseStart } from '../draw/grid';
  import { nudgedStart, setStart } from '../state/starts';
  import { workspace } from '../state/workspace.svelte';

  let { strip }: { strip: Strip } = $props();
  const gesture = pressGestures();
  const rate = $derived(workspace.session?.rate_hz ?? 48000);
  const shown = $derived(`${strip.start_s.toFixed(3)} s`);
  const samples = $derived(Math.round(strip.start_s * rate));

  function typed(field: HTMLInputElement): void {
    const start = parseStart(field.value, workspace.grid, rate);
    if (start === null)
      workspace.note(
        `"${field.value}" is no place: type 12.5 s, 17.2.1 for a bar, or 48000 samples.`,
        'error',
      );
    else setStart(workspace, strip, start);
    field.value = shown;
  }
  function keys(event: KeyboardEvent): void {
    event.stopPropagation();
    const field = event.currentTarget as HTMLInputElement;
    if (event.key === 'Enter') field.blur();
    if (event.key === 'Escape') {
      field.value = shown;
      field.blur();
    }
    const start = nudgedStart(workspace, strip, event, { ArrowUp: 1, ArrowDown: -1 });
    if (start === null) return;
    event.preventDefault();
    setStart(workspace, strip, start, gesture());
  }
</script>

<label
  class="row"
  title="Where the file begins: 12.5 s, 17.2.1 for a bar and beat, 48000 samples, also before 0. Up and down: 1 ms, with Shift a sample, with Ctrl a beat."
>
  <span>Start</span>
  <input
    class="figure"
    aria-label="Start of {strip.name}"
    data-setting="start_s"
    value={shown}
    onfocus={(event) => event.currentTarget.select()}
    onchange={(event) => typed(event.currentTarget)}
    onkeydown={keys}
  />
</label>
<p class="soft figure" data-figure="start">
  bar {barsAndBeats(strip.start_s, workspace.grid)}, sample {samples}
</p>

<style>
  .row {
    display: grid;
    grid-template-columns: auto minmax(0, 1fr);
    column-gap: 8px;
    align-items: baseline;
    height: 2.0625rem;
  }
  input {
    border: 0;
    border-bottom: 1px solid var(--ink-soft);
    background: none;
    height: 1.5rem;
    padding: 0;
    min-width: 0;
    text-align: right;
  }
  p {
    margin: 0;
    font-size: 0.75rem;
    line-height: 1.0625rem;
    text-align: right;
  }
</style>
