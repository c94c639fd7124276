<script lang="ts">
  /** Work under way and its outcome; notices that wait to be read. */
  import { dialogs } from '../dialogs/open.svelte';
  import NoticeList from './NoticeList.svelte';
  import { workspace } from '../state/workspace.svelte';

  let hidden = $state<number[]>([]);
  const jobs = $derived(
    workspace.jobs.list.filter(
      (job) =>
        !hidden.includes(job.id) &&
        (job.state === 'running' ||
          job.state === 'waiting' ||
          (job.kind === 'export' && job.state === 'done')),
    ),
  );
  const left = (seconds: number | null) => (seconds === null ? '' : `, ${Math.ceil(seconds)} s left`);
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
          Exported:
          {#each job.files as file, index (file)}
            <a href="/api/exports/{job.id}/{index}" download={file}>{file}</a>
          {/each}
          {#each job.warnings as warning (warning)}<b class="warning" role="alert">{warning}</b>{/each}
        </span>
        <button class="button" aria-label="Close" onclick={() => hidden.push(job.id)}>Close</button>
      {:else}
        <span>
          {job.kind === 'import' ? 'Reading' : 'Rendering'}
          {job.title}, {Math.round(job.progress * 100)} %{left(job.seconds_left)}
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
    color: var(--after);
  }
</style>
