<script lang="ts">
  /** A gate seen from above: open, hold, closing, closed. Shape and word tell, not a colour. */
  let { state, word = false }: { state: string; word?: boolean } = $props();
  const LEAF: Record<string, string> = {
    open: 'M5 13V3',
    hold: 'M5 13V3M3 5h4',
    closing: 'M5 13 12 6',
    closed: 'M5 13h12',
  };
</script>

<span class="gate-state" data-gate-state={state}>
  <svg viewBox="0 0 22 16" role="img" aria-label="Gate {state}">
    <path class="wall" d="M0 13h5M17 13h5" />
    <path d={LEAF[state] ?? LEAF['open']} />
  </svg>
  {#if word}<span class="figure">{state}</span>{/if}
</span>

<style>
  .gate-state {
    display: inline-flex;
    align-items: center;
    gap: 6px;
  }
  svg {
    width: 22px;
    height: 1rem;
    stroke: var(--key);
    stroke-width: 2;
    fill: none;
  }
  .wall {
    stroke: var(--ink-soft);
  }
  :global(.plate .face) > .gate-state {
    position: absolute;
    right: 12px;
    top: 16px;
  }
</style>
