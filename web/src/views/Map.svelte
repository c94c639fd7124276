<script lang="ts">
  /** The session as a graph: what feeds, sends to and keys what. */
  import { links, removal, type Link } from '../lib/map/links';
  import MapCanvas from '../lib/map/MapCanvas.svelte';
  import MapPanel from '../lib/map/MapPanel.svelte';
  import { page } from '../lib/state/page.svelte';
  import { workspace } from '../lib/state/workspace.svelte';

  let chosenId = $state<string | null>(null);
  let canvas = $state<MapCanvas | null>(null);
  const chosen = $derived(
    links(workspace.session?.strips ?? []).find((link) => link.id === chosenId) ?? null,
  );

  const choose = (link: string | null) => (chosenId = link);
  function remove(link: Link): void {
    chosenId = null;
    void workspace.edit(removal(link));
  }
  function open(strip: string, step?: string): void {
    workspace.selection.choose(strip, step);
    page.show('shape');
  }
  /** Before the keys of the page: here Del is about the line. */
  function keys(event: KeyboardEvent): void {
    if (event.key !== 'Delete' || (event.target as HTMLElement).matches('input, select, dialog *')) return;
    event.stopPropagation();
    event.preventDefault();
    const focused = (event.target as Element).closest('[data-line]')?.getAttribute('data-line');
    const line = links(workspace.session?.strips ?? []).find((link) => link.id === focused) ?? chosen;
    if (line) remove(line);
    else workspace.note('Choose a line to remove it; strips are removed in Shape.');
  }
</script>

<svelte:window onkeydowncapture={keys} />
<main class="view">
  <div class="canvas">
    <MapCanvas bind:this={canvas} chosen={chosen?.id ?? null} {choose} {open} />
    <div class="zoom">
      <button class="button" title="Zoom in (+)" aria-label="Zoom in" onclick={() => canvas?.zoom(1.2)}
        >+</button
      >
      <button class="button" title="Zoom out (-)" aria-label="Zoom out" onclick={() => canvas?.zoom(1 / 1.2)}
        >&minus;</button
      >
      <button class="button" title="Everything (0)" onclick={() => canvas?.fit()}>Fit</button>
    </div>
    <dl class="legend soft">
      <dt><i class="output"></i></dt>
      <dd>output</dd>
      <dt><i class="send"></i></dt>
      <dd>send, dB</dd>
      <dt><i class="key"></i></dt>
      <dd>key</dd>
      <dt><i class="pale"></i></dt>
      <dd>silent</dd>
    </dl>
  </div>
  <div class="panel">
    <MapPanel {chosen} {choose} {remove} {open} connect={(strip) => canvas?.connect(strip)} />
  </div>
</main>

<style>
  .view {
    height: 100%;
    min-height: 0;
    display: grid;
    grid-template-columns: minmax(0, 1fr) 15rem;
  }
  .canvas {
    position: relative;
    min-width: 0;
    min-height: 0;
  }
  .panel {
    border-left: 1px solid var(--line);
    min-height: 0;
  }
  .zoom {
    position: absolute;
    top: 8px;
    right: 8px;
    display: flex;
    gap: 4px;
  }
  .legend {
    position: absolute;
    left: 12px;
    top: 8px;
    margin: 0;
    display: flex;
    align-items: center;
    gap: 6px;
    font-size: 0.75rem;
  }
  .legend dd {
    margin: 0 10px 0 0;
  }
  i {
    display: block;
    width: 26px;
    height: 0;
    border-top: 2px solid var(--ink-soft);
  }
  .send {
    border-top-width: 1px;
  }
  .key {
    border-top: 2px dashed var(--key);
  }
  .pale {
    height: 12px;
    width: 20px;
    border: 1px dotted var(--ink-soft);
  }
  @media (max-width: 47.5em) {
    .view {
      display: flex;
      flex-direction: column;
      overflow: auto;
    }
    .canvas {
      flex: none;
      height: 60vh;
    }
    .panel {
      border-left: 0;
      border-top: 1px solid var(--line);
    }
    .legend {
      display: none;
    }
  }
</style>
