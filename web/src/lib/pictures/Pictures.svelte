<script lang="ts">
  /** Two pictures side by side; each place can show any picture the step has. */
  import type { Component } from 'svelte';
  import type { Processor } from '../api/client';
  import Segments from '../controls/Segments.svelte';
  import { bandsState } from '../state/bands.svelte';
  import { spectrumState } from '../state/spectrum.svelte';
  import { workspace } from '../state/workspace.svelte';
  import Bands from './Bands.svelte';
  import Bite from './Bite.svelte';
  import Curve from './Curve.svelte';
  import Envelopes from './Envelopes.svelte';
  import Resonances from './Resonances.svelte';
  import Response from './Response.svelte';
  import Spectrum from './Spectrum.svelte';
  import Wave from './Wave.svelte';

  type Kind = Processor['pictures'][number];
  /** Each picture's part and name: one that a processor asks for and that is not here is an error of types. */
  const KINDS: Record<Kind, { label: string; part: Component }> = {
    bite: { label: 'Level', part: Bite },
    curve: { label: 'Curve', part: Curve },
    response: { label: 'Response', part: Response },
    spectrum: { label: 'Spectrum', part: Spectrum },
    wave: { label: 'Wave', part: Wave },
    envelopes: { label: 'Envelopes', part: Envelopes },
    bands: { label: 'Lanes', part: Bands },
    resonances: { label: 'Resonances', part: Resonances },
  };

  const kind = $derived(workspace.selection.step?.kind ?? 'strip');
  const own = $derived<Kind[]>(workspace.described.processor(kind)?.pictures ?? ['bite']);
  const all = $derived([...new Set<Kind>([...own, 'bite', 'spectrum'])]);
  /** What was chosen for the places, by kind of step. */
  let chosen = $state<Record<string, (Kind | undefined)[]>>({});
  const places = $derived.by(() => {
    const first = chosen[kind]?.[0] ?? all[0]!;
    const second = chosen[kind]?.[1] ?? all.find((picture) => picture !== first)!;
    return [first, second] as const;
  });

  /** Whether a picture shows an older version than the one that sounds. */
  function busy(picture: Kind): boolean {
    const later = {
      spectrum: spectrumState.busy,
      resonances: spectrumState.busy,
      bands: spectrumState.busy || bandsState.busy,
    }[picture as string];
    return workspace.measuring.stale || Boolean(later);
  }

  function show(place: number, picture: Kind): void {
    const next: Kind[] = [...places];
    if (next[1 - place] === picture) next[1 - place] = next[place]!;
    next[place] = picture;
    chosen[kind] = next;
  }
</script>

<div
  class="pictures"
  class:wide={places[1] === 'spectrum' ||
    places[1] === 'wave' ||
    (places[1] === 'bite' && places[0] !== 'bands')}
>
  {#each places as picture, place (place)}
    {@const Picture = KINDS[picture].part}
    <div class="place">
      <div class="choose">
        <Segments
          label={place ? 'Right picture' : 'Left picture'}
          value={picture}
          change={(next) => show(place, next as Kind)}
          options={all.map((name) => [name, KINDS[name].label] as const)}
        />
      </div>
      <div class="plate" aria-busy={busy(picture)}><div class="face"><Picture /></div></div>
    </div>
  {/each}
</div>

<style>
  .pictures {
    display: grid;
    grid-template-columns: minmax(0, 5fr) minmax(200px, 2.2fr);
    gap: 8px;
    min-height: 0;
  }
  .wide {
    grid-template-columns: minmax(0, 1fr) minmax(0, 1fr);
  }
  .place {
    display: grid;
    grid-template-rows: 24px minmax(0, 1fr);
    min-height: 0;
    min-width: 0;
  }
  .choose {
    overflow: hidden;
  }
  .choose :global(.segments) {
    width: max-content;
    border-bottom: 0;
  }
  .choose :global(button) {
    height: 1.375rem;
    line-height: 1.25rem;
    padding: 0 8px;
    font-size: 0.75rem;
  }
  .plate {
    min-height: 0;
  }
  @media (max-width: 56.25em) {
    .pictures,
    .wide {
      grid-template-columns: 1fr;
      grid-auto-rows: 204px;
      min-height: auto;
    }
  }
</style>
