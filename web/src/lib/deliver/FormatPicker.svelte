<script lang="ts">
  /** Formats that are chosen, each with its cross, and a list to add one from. */
  import { delivery } from '../state/delivery.svelte';
  import type { FormatView } from '../api/client';

  interface Props {
    label: string;
    chosen: string[];
    change: (names: string[]) => void;
    /** Which formats can be chosen. */
    fits?: (format: FormatView) => boolean;
    /** One at least must stay. */
    least?: number;
  }
  let { label, chosen, change, fits = () => true, least = 0 }: Props = $props();
  const KINDS: Record<FormatView['kind'], string> = {
    wav: 'WAV',
    bwf: 'Broadcast WAV',
    flac: 'FLAC',
    aiff: 'AIFF',
    mp3: 'MP3',
    aac: 'AAC',
    opus: 'Opus',
    vorbis: 'Ogg Vorbis',
  };
  const kinds = $derived(
    Object.entries(KINDS)
      .map(([kind, name]) => ({
        name,
        formats: (delivery.options?.formats ?? []).filter(
          (format) => format.kind === kind && fits(format) && !chosen.includes(format.name),
        ),
      }))
      .filter(({ formats }) => formats.length),
  );
  function add(select: HTMLSelectElement): void {
    if (select.value) change([...chosen, select.value]);
    select.value = '';
  }
</script>

<div class="picker" role="group" aria-label={label}>
  {#each chosen as name (name)}
    <span class="chip" data-format={name}
      >{delivery.label(name)}<button
        aria-label="Remove {delivery.label(name)} from {label.toLowerCase()}"
        disabled={chosen.length <= least}
        onclick={() => change(chosen.filter((other) => other !== name))}>&times;</button
      ></span
    >
  {/each}
  <select aria-label="Add to {label.toLowerCase()}" onchange={(event) => add(event.currentTarget)}>
    <option value="">Add ...</option>
    {#each kinds as { name, formats } (name)}
      <optgroup label={name}>
        {#each formats as format (format.name)}<option value={format.name}>{format.label}</option>{/each}
      </optgroup>
    {/each}
  </select>
</div>

<style>
  .picker {
    display: flex;
    flex-wrap: wrap;
    gap: 4px;
    min-width: 0;
  }
  .chip {
    display: inline-flex;
    align-items: center;
    border: 1px solid var(--line);
    background: var(--ground);
    padding-left: 6px;
    min-height: 1.5rem;
    white-space: nowrap;
  }
  .chip button {
    padding: 0 6px;
    min-height: 1.5rem;
    min-width: 1.5rem;
  }
  select {
    height: 1.625rem;
    width: 5.5rem;
    background: var(--plate);
    border: 1px solid var(--edge);
  }
</style>
