<script lang="ts">
  /** What the page says, with what can be done about it. */
  import { workspace } from '../state/workspace.svelte';
</script>

{#each workspace.notices.list as notice (notice.id)}
  <div class="card" class:error={notice.kind === 'error'} role={notice.kind === 'error' ? 'alert' : 'status'}>
    <span>{notice.text}</span>
    {#if notice.action}
      <button
        class="button"
        onclick={() => {
          notice.action?.run();
          workspace.notices.dismiss(notice.id);
        }}>{notice.action.label}</button
      >
    {/if}
    <button class="button" aria-label="Close this notice" onclick={() => workspace.notices.dismiss(notice.id)}
      >Close</button
    >
  </div>
{/each}
