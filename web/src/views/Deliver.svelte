<script lang="ts">
  /** Finish and send: what goes out, how it is made and what encoders do to it, and how loud it will be played. */
  import { untrack } from 'svelte';
  import BatchDialog from '../lib/deliver/BatchDialog.svelte';
  import Chain from '../lib/deliver/Chain.svelte';
  import CheckPart from '../lib/deliver/CheckPart.svelte';
  import Outgoing from '../lib/deliver/Outgoing.svelte';
  import TargetPart from '../lib/deliver/TargetPart.svelte';
  import { contrast } from '../lib/state/contrast.svelte';
  import { delivery } from '../lib/state/delivery.svelte';
  import { workspace } from '../lib/state/workspace.svelte';

  $effect(() => {
    void workspace.version?.id;
    untrack(() => void delivery.open());
    return () => untrack(() => delivery.leave());
  });
  // Names follow what is chosen; the passage counts where it goes out.
  $effect(() => {
    void [delivery.setup, workspace.session?.name, workspace.session?.sections, workspace.listening.passage];
    void delivery.stripIds;
    untrack(() => delivery.soonNames());
  });
  $effect(() => {
    void workspace.version?.revision;
    untrack(() => contrast.soon(true));
    return () => contrast.stop();
  });
  // After a lost connection nothing is known of what is heard.
  $effect(() => {
    if (workspace.listening.lost) untrack(() => (delivery.to = 'session'));
  });
</script>

<main class="deliver" aria-label="Deliver">
  <div class="left"><Outgoing /></div>
  <div class="middle">
    <Chain />
    <CheckPart />
  </div>
  <div class="right"><TargetPart /></div>
  {#if delivery.dropped.length}
    <BatchDialog files={delivery.dropped} close={() => (delivery.dropped = [])} />
  {/if}
</main>

<style>
  .deliver {
    height: 100%;
    min-height: 0;
    display: grid;
    grid-template-columns: 296px minmax(0, 1fr) 272px;
  }
  .deliver > div {
    min-height: 0;
    overflow: auto;
  }
  .left {
    border-right: 1px solid var(--line);
  }
  .middle {
    padding: 8px 12px;
  }
  .right {
    border-left: 1px solid var(--line);
  }
  @media (max-width: 68.6875em) {
    .deliver {
      grid-template-columns: 260px minmax(0, 1fr);
      grid-auto-rows: max-content;
      overflow: auto;
    }
    .deliver > div {
      min-height: auto;
      overflow: visible;
    }
    .right {
      grid-column: 1 / -1;
      border-left: 0;
      border-top: 1px solid var(--line);
    }
  }
  @media (max-width: 47.5em) {
    .deliver {
      display: block;
    }
    .left {
      border-right: 0;
    }
  }
</style>
