<script lang="ts">
  import Ledger from '../lib/ledger/Ledger.svelte';
  import Editor from '../lib/path/Editor.svelte';
  import PathRail from '../lib/path/PathRail.svelte';
  import EnvelopeLanes from '../lib/pictures/EnvelopeLanes.svelte';
  import Timeline from '../lib/pictures/Timeline.svelte';
  import { page } from '../lib/state/page.svelte';
  import StripTree from '../lib/tree/StripTree.svelte';

  let pathHeight = $state(84);
</script>

<main class="shape" style:--path="{pathHeight}px">
  <div class="tree"><StripTree stageGain={() => (page.dialog = 'stage gain')} /></div>
  <div class="timeline"><Timeline sections={() => (page.dialog = 'sections')} /></div>
  <div class="over-time"><EnvelopeLanes /></div>
  <div class="path">
    <PathRail bind:adding={page.adding} bind:bands={page.bands} bind:height={pathHeight} />
  </div>
  <div class="editor"><Editor bands={page.bands} /></div>
  <div class="ledger"><Ledger /></div>
</main>

<style>
  .shape {
    height: 100%;
    min-height: 0;
    display: grid;
    grid-template:
      'tree timeline ledger' 104px
      'tree lanes ledger' auto
      'tree path ledger' var(--path)
      'tree editor ledger' minmax(0, 1fr) / 15.5rem minmax(0, 1fr) 15.75rem;
  }
  .tree {
    grid-area: tree;
    border-right: 1px solid var(--line);
    min-height: 0;
  }
  .timeline {
    grid-area: timeline;
    border-bottom: 1px solid var(--line);
    min-width: 0;
  }
  .over-time {
    grid-area: lanes;
    min-width: 0;
  }
  .path {
    grid-area: path;
    border-bottom: 1px solid var(--line);
    min-width: 0;
  }
  .editor {
    grid-area: editor;
    min-height: 0;
    min-width: 0;
  }
  .ledger {
    grid-area: ledger;
    border-left: 1px solid var(--line);
    min-height: 0;
  }
  @media (max-width: 68.6875em) {
    .shape {
      grid-template:
        'tree timeline' 96px
        'tree lanes' auto
        'tree path' var(--path)
        'tree editor' minmax(0, 1fr)
        'ledger ledger' 140px / 220px minmax(0, 1fr);
    }
    .ledger {
      border-left: 0;
      border-top: 1px solid var(--line);
    }
  }
  /* Too narrow for columns: everything beneath each other, the strips after the editor. */
  @media (max-width: 47.5em) {
    .shape {
      display: flex;
      flex-direction: column;
      overflow: auto;
    }
    .shape > div {
      flex: none;
    }
    .timeline {
      height: 96px;
    }
    .path {
      height: var(--path);
    }
    .tree,
    .ledger {
      order: 1;
    }
    .tree {
      border-right: 0;
      border-top: 1px solid var(--line);
    }
  }
</style>
