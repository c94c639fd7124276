<script lang="ts">
  /** Work under way and its outcome; notices that wait to be read. */
  import type { JobView } from '../api/client';
  import { dialogs } from '../dialogs/open.svelte';
  import { leftText } from '../draw/time-left';
  import NoticeList from './NoticeList.svelte';
  import { workspace } from '../state/workspace.svelte';

  /** Cards that were closed, also after a reload; numbers of jobs begin anew with each server, so what they made stands with them. */
  const HIDDEN = 'saltanvil.closed-jobs';
  let hidden = $state<string[]>(JSON.parse(sessionStorage.getItem(HIDDEN) ?? '[]') as string[]);
  const nameOf = (job: JobView) => [job.id, job.title, ...job.files].join(' ');
  function hide(job: JobView): void {
    hidden.push(nameOf(job));
    sessionStorage.setItem(HIDDEN, JSON.stringify(hidden));
  }
  const jobs = $derived(
    workspace.jobs.list.filter(
      (job) =>
        !hidden.includes(nameOf(job)) &&
        (job.state === 'running' || job.state === 'waiting' || (job.files.length && job.state === 'done')),
    ),
  );
  const DOING: Record<string, string> = {
    import: 'Reading',
    export: 'Rendering',
    check: 'Running the',
    ceiling: 'Looking for the',
    batch: 'Processing',
    pack: 'Packing',
    unpack: 'Unpacking',
    demo: 'Making',
    print: 'Printing',
  };
  const DONE: Record<string, string> = { export: 'Delivered', batch: 'Processed', pack: 'Packed' };
  /** So many files are named; all of them can be fetched in one. */
  const NAMED = 8;
</script>

<div class="jobs" aria-live="polite">
  {#if !dialogs.open}<NoticeList />{/if}
  {#each workspace.jobs.uploads as entry (entry.id)}
    <div class="card">
      <span>Sending {entry.text}, {Math.round(entry.share * 100)} %</span>
      <i style:width="{entry.share * 100}%"></i>
      <button class="button" onclick={entry.cancel}>Cancel</button>
    </div>
  {/each}
  {#each jobs as job (job.id)}
    <div class="card" data-job={job.id}>
      {#if job.state === 'done'}
        <span>
          {DONE[job.kind] ?? 'Done'}:
          {#each job.files.slice(0, NAMED) as file, index (file)}
            {#if file.endsWith('.html')}
              <a href="/api/exports/{job.id}/{index}" target="_blank" rel="noopener">{file}</a>
            {:else}
              <a href="/api/exports/{job.id}/{index}" download={file}>{file}</a>
            {/if}
          {/each}
          {#if job.files.length > NAMED}<span class="soft">and {job.files.length - NAMED} more</span>{/if}
          {#if job.files.length > 1}
            <a href="/api/exports/{job.id}/zip" download="{workspace.session?.name ?? 'delivery'}.zip"
              ><b>all as one zip</b></a
            >
          {/if}
          {#each job.warnings as warning (warning)}<b class="warning" role="alert">{warning}</b>{/each}
        </span>
        <button class="button" aria-label="Close" onclick={() => hide(job)}>Close</button>
      {:else}
        <span>
          {DOING[job.kind]}
          {job.title}, {Math.round(job.progress * 100)} %{leftText(job)}
        </span>
        <i style:width="{job.progress * 100}%"></i>
        <button class="button" onclick={() => workspace.jobs.cancel(job.id)}>Cancel</button>
      {/if}
    </div>
  {/each}
</div>

<style>
  .warning {
    display: block;
    font-weight: 400;
    color: var(--taken);
  }
  .jobs {
    position: fixed;
    right: 12px;
    bottom: 60px;
    display: flex;
    flex-direction: column;
    gap: 6px;
    width: 360px;
    max-width: 90vw;
    max-height: calc(100vh - 116px);
    overflow: auto;
    z-index: 30;
  }
  .card i {
    position: absolute;
    left: 0;
    bottom: 0;
    height: 2px;
    background: var(--after);
  }
  a {
    display: block;
    color: var(--after);
    overflow-wrap: anywhere;
  }
  .card > span {
    max-height: 50vh;
    overflow: auto;
  }
</style>
