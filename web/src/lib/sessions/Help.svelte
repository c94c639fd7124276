<script lang="ts">
  let { close }: { close: () => void } = $props();
  const KEYS = [
    ['Space', 'play and stop'],
    ['L', 'loop the passage'],
    ['Z  X  C', 'hear before, after, taken'],
    ['M', 'matched: before at the loudness of after'],
    ['A', 'add a step'],
    ['B', 'bypass the step, the lane, or the steps chosen together'],
    ['Shift+B', 'bypass the whole path'],
    ['G', 'hear what the detector hears'],
    ['R', 'swap the step with its neighbour, both orders equally loud; R again swaps back'],
    ['Shift, Ctrl and click', 'choose several steps'],
    ['P  F  W', 'put the steps in parallel, in bands, in mid/side'],
    ['U', 'take the split apart'],
    ['O', 'hear only the lane'],
    ['Ctrl+C, V, D', 'copy, paste, duplicate steps'],
    ['Del', 'remove the step'],
    ['S  D', 'solo, mute the lane or the strip'],
    ['V', 'the next view: Shape, Map, Bench; with Shift the one before'],
    ['K on the bench', 'pin the result'],
    ['On the map', 'arrows from plate to plate, K connects, Enter shapes it, Del removes a line, + - 0 zoom'],
    ['Arrows', 'walk the path, in and out of lanes, and the tree'],
    ['Alt with arrows', 'move the steps or the strip'],
    ['Ctrl+Z', 'undo'],
    ['Ctrl+Shift+Z', 'redo'],
    ['On a rule', 'arrows, Shift fine, Ctrl coarse; type a number; double-click for the default'],
    ['On a divider', 'drag, Shift all together; arrows; Del removes; double-click beside adds one'],
    ['On the bite', 'wheel zooms, double-click shows the whole passage'],
  ] as const;
</script>

<div class="menu" role="dialog" aria-label="Keys">
  <h2>Keys</h2>
  <dl>
    {#each KEYS as [key, what] (key)}<dt class="figure">{key}</dt>
      <dd>{what}</dd>{/each}
  </dl>
  <button class="button" onclick={close}>Close</button>
</div>
<div class="veil" role="presentation" onpointerdown={close}></div>

<style>
  .menu {
    position: fixed;
    top: 48px;
    right: 8px;
    width: 400px;
    max-width: 95vw;
    max-height: 85vh;
    overflow: auto;
    z-index: 20;
    background: var(--plate);
    border: 1px solid var(--ink-soft);
    padding: 12px 16px;
  }
  .veil {
    position: fixed;
    inset: 0;
    z-index: 10;
  }
  dl {
    display: grid;
    grid-template-columns: 130px 1fr;
    margin: 8px 0;
  }
  dd {
    margin: 0;
  }
</style>
