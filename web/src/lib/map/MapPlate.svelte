<script lang="ts">
  /** One strip on the map: its name, level and steps, and the port a new line is drawn from. */
  import type { Strip } from '../api/client';
  import { workspace } from '../state/workspace.svelte';
  import { PLATE, type Plate } from './layout';
  import { levelShare } from './view';

  interface Props {
    plate: Plate;
    strip: Strip;
    /** Why nothing is heard of it. */
    silent: string | null;
    level_db: number;
    /** Whether a line being drawn would end here. */
    over: boolean;
    press: () => void;
    open: () => void;
    keydown: (event: KeyboardEvent) => void;
    draw: (event: PointerEvent) => void;
  }
  let { plate, strip, silent, level_db, over, press, open, keydown, draw }: Props = $props();

  const CORNER = 10;
  const FACE = `M0 0H${PLATE.width - CORNER}L${PLATE.width} ${CORNER}V${PLATE.height}H0Z`;
  const second = $derived.by(() => {
    if (silent) return silent;
    const steps = strip.path.steps.length;
    const count = steps === 0 ? 'no steps' : steps === 1 ? 'one step' : `${steps} steps`;
    return `${strip.level_db.toFixed(1)} dB, ${count}`;
  });
  const cut = (text: string, most: number) => (text.length > most ? `${text.slice(0, most - 1)}…` : text);
</script>

<g
  id="plate-{plate.id}"
  class="plate-{strip.kind} strip"
  class:silent
  class:own={plate.id === workspace.selection.stripId}
  class:over
  data-plate={plate.id}
  role="button"
  tabindex="0"
  aria-label="{strip.name} {second}{silent ? `, silent: ${silent}` : ''}"
  transform="translate({plate.x} {plate.y})"
  onpointerdown={(event) => {
    event.stopPropagation();
    press();
  }}
  ondblclick={open}
  onkeydown={keydown}
>
  <title>{strip.name}: {silent ?? 'double-click to shape it; drag its right edge to connect it'}</title>
  <path class="face" d={FACE} />
  <text x="9" y="16" class="name">{cut(strip.name, 18)}</text>
  <text x="9" y="29" class="more">{cut(second, 23)}</text>
  <g class="bars">
    <rect x="0" y={PLATE.height - 4} height="3" width={PLATE.width * levelShare(level_db)} />
  </g>
  {#if strip.solo}<text x={PLATE.width - 22} y="16" class="mark">S</text>{/if}
  {#if strip.mute}<text x={PLATE.width - 22} y="16" class="mark muted">M</text>{/if}
  <!-- svelte-ignore a11y_no_static_element_interactions -->
  <g class="port" data-port={plate.id} onpointerdown={draw}>
    <rect x={PLATE.width - 12} y="10" width="24" height={PLATE.height - 12} />
    <path d="M{PLATE.width - 3} {PLATE.height / 2 - 5}l7 5l-7 5z" />
  </g>
</g>

<style>
  text {
    font-family: 'Archivo Variable', system-ui, sans-serif;
    font-variation-settings: 'wdth' 88;
    fill: var(--ink);
    pointer-events: none;
  }
  .name {
    font-size: 0.8125rem;
    font-weight: 600;
  }
  .more {
    font-size: 0.6875rem;
    fill: var(--ink-soft);
  }
  .mark {
    font-size: 0.6875rem;
    font-weight: 650;
  }
  .muted {
    fill: var(--taken);
  }
  .strip {
    cursor: pointer;
    outline: none;
  }
  .face {
    fill: var(--plate);
    stroke: var(--line);
  }
  .plate-bus .face,
  .plate-main .face {
    stroke: var(--ink-soft);
  }
  .own .face {
    stroke: var(--after);
    stroke-width: 2;
  }
  .over .face,
  .strip:focus-visible .face {
    stroke: var(--after);
    stroke-width: 2;
    stroke-dasharray: 4 2;
  }
  .strip.silent .face {
    fill: var(--ground);
    stroke-dasharray: 2 3;
  }
  .strip.silent .name {
    fill: var(--ink-soft);
    font-weight: 400;
  }
  .bars rect {
    fill: var(--after);
  }
  .port {
    cursor: crosshair;
  }
  .port rect {
    fill: transparent;
  }
  .port path {
    fill: var(--ink-soft);
  }
  .port:hover path {
    fill: var(--after);
  }
</style>
