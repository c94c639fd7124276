<script lang="ts">
  /**
   * After an import: what each file was and became; and what their names, times and markers suggest, done in one press and one edit.
   */
  import type { Edit, ImportView } from '../api/client';
  import { clock } from '../draw/scale';
  import { splitTrack } from '../state/strips';
  import { workspace } from '../state/workspace.svelte';
  import Dialog from './Dialog.svelte';

  let { view, close }: { view: ImportView; close: () => void } = $props();
  const TITLES = {
    buses: 'Group under buses',
    times: 'Start at the times in the files',
    sections: 'Sections from markers',
    tempo: 'Tempo from the MIDI file',
    replacements: 'Replace recordings',
  };
  // svelte-ignore state_referenced_locally
  let chosen = $state(view.proposals.map((proposal) => proposal.name));

  /** Stereo tracks that were joined from two files, and are to be two tracks. */
  let apart = $state<string[]>([]);
  const channels = (count: number) => (count === 1 ? 'mono' : count === 2 ? 'stereo' : '');
  const sides = $derived([
    ...new Set(view.files.flatMap((file) => (file.joined && file.strip_id ? [file.strip_id] : []))),
  ]);

  async function apply(): Promise<void> {
    const edits = view.proposals
      .filter((proposal) => chosen.includes(proposal.name))
      .map((proposal) => proposal.edit as Edit);
    const split = (workspace.session?.strips ?? []).filter((strip) => apart.includes(strip.id));
    close();
    if (edits.length) await workspace.edit(edits.length === 1 ? edits[0]! : { op: 'batch', edits });
    for (const strip of split) await splitTrack(workspace, strip);
    if (!edits.length) return;
    workspace.note('Done with the new tracks.', 'note', workspace.history.offer());
  }
</script>

<Dialog
  title="{view.strip_ids.length} {view.strip_ids.length === 1 ? 'track' : 'tracks'} imported"
  {close}
  width={46}
>
  <div class="files">
    <table>
      <thead>
        <tr>
          {#each ['File', 'Format', 'Rate', 'Channels', 'Length', 'Start', 'Becomes'] as title (title)}<th
              scope="col">{title}</th
            >{/each}
        </tr>
      </thead>
      <tbody>
        {#each view.files as file, index (index)}
          <tr data-file={file.name}>
            <th scope="row">{file.name}</th>
            <td>{file.format || '\u2013'}</td>
            <td class="figure">{file.rate_hz ? `${file.rate_hz / 1000} kHz` : '\u2013'}</td>
            <td>{channels(file.channels) || '\u2013'}</td>
            <td class="figure">{file.length_s ? clock(file.length_s) : '\u2013'}</td>
            <td class="figure">{file.start_s === null ? '\u2013' : `${file.start_s.toFixed(3)} s`}</td>
            <td
              >{file.becomes}{#if file.converted}<br /><span class="soft">{file.converted}</span>{/if}</td
            >
          </tr>
        {/each}
      </tbody>
    </table>
  </div>
  {#each view.notes as note (note)}<p class="soft">{note}</p>{/each}
  {#each sides as id (id)}
    <label>
      <input type="checkbox" value={id} bind:group={apart} />
      <span
        ><b>Keep {workspace.stripNamed(id)} as two tracks</b><br /><span class="soft"
          >Two mono files were joined to one stereo track, by their names.</span
        ></span
      >
    </label>
  {/each}
  {#each view.proposals as proposal (proposal.name)}
    <label>
      <input type="checkbox" value={proposal.name} bind:group={chosen} />
      <span><b>{TITLES[proposal.name]}</b><br /><span class="soft">{proposal.text}</span></span>
    </label>
  {/each}
  <div class="line">
    <button class="button" onclick={close}
      >{view.proposals.length || sides.length ? 'Leave as it is' : 'Close'}</button
    >
    {#if view.proposals.length || sides.length}<button
        class="button"
        data-act="apply"
        disabled={!chosen.length && !apart.length}
        onclick={apply}>Apply</button
      >{/if}
  </div>
</Dialog>

<style>
  label {
    display: grid;
    grid-template-columns: 24px minmax(0, 1fr);
    align-items: start;
    padding: 6px 0;
    border-bottom: 1px solid var(--line);
    overflow-wrap: anywhere;
  }
  .files {
    max-height: 40vh;
    overflow: auto;
  }
  table {
    width: 100%;
    border-collapse: collapse;
    font-size: 0.75rem;
  }
  th,
  td {
    padding: 2px 8px 2px 0;
    text-align: left;
    vertical-align: top;
    font-weight: 400;
    border-bottom: 1px solid var(--line);
    white-space: nowrap;
  }
  tbody th,
  td:last-child {
    white-space: normal;
    overflow-wrap: anywhere;
  }
  thead th {
    position: sticky;
    top: 0;
    background: var(--plate);
    color: var(--ink-soft);
  }
  p {
    margin: 4px 0;
  }
  .line {
    display: flex;
    justify-content: flex-end;
    gap: 8px;
    margin-top: 10px;
  }
</style>
