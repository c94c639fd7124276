<script lang="ts">
  /** Sections as a table: named, with edges typed in bars or seconds; split, merged, removed, proposed, read and written. */
  import { barsAndBeats, parsePlace } from '../draw/grid';
  import type { Section } from '../api/client';
  import * as timeline from '../state/timeline.svelte';
  import { workspace } from '../state/workspace.svelte';
  import Dialog from './Dialog.svelte';

  let { close }: { close: () => void } = $props();
  let picker = $state<HTMLInputElement | null>(null);
  let wrong = $state<string | null>(null);
  let proposing = $state(false);
  const sections = $derived(workspace.session?.sections ?? []);

  function edge(section: Section, side: 'start_s' | 'end_s', field: HTMLInputElement): void {
    const place = parsePlace(field.value, workspace.grid);
    wrong = null;
    if (place === null)
      wrong = `"${field.value}" is no place: type bars like 17 or 17.3, or seconds like 12.5 s or 0:12.5.`;
    else if (Math.abs(place - section[side]) > 1e-6) {
      const next = { ...section, [side]: place };
      if (next.end_s <= next.start_s) wrong = `${section.name} must end after it starts.`;
      else timeline.resize(section, next.start_s, next.end_s);
    }
    field.value = barsAndBeats(section[side], workspace.grid);
  }
  async function propose(): Promise<void> {
    proposing = true;
    await timeline.propose();
    proposing = false;
  }
</script>

<Dialog title="Sections" {close} width={46}>
  {#if sections.length}
    <table>
      <thead><tr class="soft"><th>Name</th><th>From</th><th>To</th><td></td></tr></thead>
      <tbody>
        {#each sections as section, index (section.id)}
          <tr data-row={section.name}>
            <td
              ><input
                aria-label="Name of section {index + 1}"
                value={section.name}
                maxlength="120"
                onchange={(event) => timeline.rename(section, event.currentTarget.value)}
              /></td
            >
            {#each ['start_s', 'end_s'] as const as side (side)}
              <td
                ><input
                  class="figure place"
                  aria-label="{section.name}, {side === 'start_s' ? 'start' : 'end'}"
                  value={barsAndBeats(section[side], workspace.grid)}
                  title="{section[side].toFixed(3)} s"
                  onchange={(event) => edge(section, side, event.currentTarget)}
                /></td
              >
            {/each}
            <td class="acts">
              <button class="button" onclick={() => timeline.take(section)}>Listen</button>
              <button
                class="button"
                disabled={index === sections.length - 1}
                title="One section from this and the next"
                onclick={() => timeline.merge(section)}>Merge with next</button
              >
              <button
                class="button"
                aria-label="Remove {section.name}"
                onclick={() => timeline.remove(section.id)}>Remove</button
              >
            </td>
          </tr>
        {/each}
      </tbody>
    </table>
  {:else}<p class="soft">
      No section yet. Make one from the passage, drag one above the waveform, or have them proposed.
    </p>{/if}
  <p class="wrong" role="status">{wrong ?? ''}</p>
  <div class="line">
    <button
      class="button"
      data-act="add"
      onclick={() =>
        timeline.add(
          workspace.listening.passage.start_s,
          workspace.listening.passage.end_s,
          workspace.listening.passage.name,
        )}>Add the passage</button
    >
    <button class="button" title="At the playhead (K)" onclick={timeline.splitAtPlayhead}
      >Split at playhead</button
    >
    <button
      class="button"
      aria-busy={proposing}
      disabled={proposing}
      title="From changes of the main's loudness; replaces the sections there are"
      onclick={propose}>{proposing ? 'Measuring ...' : 'Propose by loudness'}</button
    >
    <span class="space"></span>
    <button class="button" onclick={() => picker?.click()}>Read CSV</button>
    {#if workspace.version}<a
        class="button"
        href="/api/sessions/{workspace.version.id}/sections.csv"
        download="sections.csv">Write CSV</a
      >{/if}
  </div>
  <input
    type="file"
    accept=".csv,text/csv"
    hidden
    aria-label="Sections file"
    bind:this={picker}
    onchange={(event) => {
      const file = event.currentTarget.files?.[0];
      if (file) void timeline.readCsv(file);
      event.currentTarget.value = '';
    }}
  />
</Dialog>

<style>
  table {
    width: 100%;
    border-collapse: collapse;
  }
  th {
    text-align: left;
    font-weight: 400;
  }
  td {
    padding: 2px 6px 2px 0;
    border-bottom: 1px solid var(--line);
  }
  input {
    width: 100%;
    height: 1.5rem;
    padding: 0 6px;
    border: 1px solid var(--edge);
    background: var(--ground);
  }
  .place {
    width: 84px;
  }
  .acts,
  .line {
    display: flex;
    gap: 6px;
    justify-content: flex-end;
  }
  .line {
    justify-content: flex-start;
    flex-wrap: wrap;
  }
  .space {
    flex: 1;
  }
  .wrong {
    min-height: 1.25rem;
    margin: 4px 0;
    color: var(--taken);
  }
</style>
