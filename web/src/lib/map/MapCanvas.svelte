<script lang="ts">
  /** Strips as plates, outputs as solid lines, sends thin with their level, keys dashed with an arrow into the detector. */
  import type { Strip } from '../api/client';
  import { workspace } from '../state/workspace.svelte';
  import { choices, curve, links, type Link } from './links';
  import { layout, neighbour, PLATE, type Plate } from './layout';

  interface Props {
    /** The line that is chosen, if one is. */
    chosen: string | null;
    choose: (link: string | null) => void;
    open: (strip: string) => void;
  }
  let { chosen, choose, open }: Props = $props();
  const MARGIN = 28;
  /** Above the map lie its legend and the zoom. */
  const TOP = 44;

  let box = $state({ width: 1, height: 1 });
  let view = $state({ x: 0, y: 0, scale: 1 });
  let own = $state(false); // whether the user has moved the view
  let svg = $state<SVGSVGElement | null>(null);
  /** A line being drawn: from a plate to a place, by the pointer or by the keyboard. */
  let drawing = $state<{ from: string; x: number; y: number; over: string | null; keys: boolean } | null>(
    null,
  );
  let menu = $state<{ from: string; to: string; x: number; y: number } | null>(null);
  let panning = $state(false);

  const strips = $derived(workspace.session?.strips ?? []);
  const map = $derived(layout(strips));
  const plates = $derived(new Map(map.plates.map((plate) => [plate.id, plate])));
  const byId = $derived(new Map(strips.map((strip) => [strip.id, strip])));
  const lines = $derived(
    links(strips).flatMap((link) => {
      const [from, to] = [plates.get(link.from), plates.get(link.to)];
      return from && to ? [{ link, shape: curve(link, from, to) }] : [];
    }),
  );
  const order = { output: 0, lane: 1, send: 2, key: 3 };
  const drawn = $derived([...lines].sort((a, b) => order[a.link.kind] - order[b.link.kind]));
  const routing = $derived(workspace.routing);
  /** Levels move ten times a second here: a whole map is much to paint. */
  const LEVELS_MS = 100;
  let header = $state.raw<typeof workspace.listening.header>(null);
  let shownAt = 0;
  $effect(() => {
    const next = workspace.listening.playing ? workspace.listening.header : null;
    const now = performance.now();
    if (next && now - shownAt < LEVELS_MS) return;
    shownAt = now;
    header = next;
  });
  const keyed = (kind: string) => {
    const processor = workspace.processor(kind);
    return processor?.keyed ? processor.label : null;
  };

  const silentStrip = (id: string) => routing?.strips[id]?.silent ?? null;
  function why(link: Link): string | null {
    if (link.kind === 'send') return routing?.silent_sends[link.send.id] ?? null;
    if (link.kind === 'key') return routing?.silent_keys[link.step.id] ?? null;
    if (link.kind === 'lane') return link.lane.mute ? 'The lane is muted.' : silentStrip(link.from);
    return silentStrip(link.from);
  }
  /** The level on a line now, in dB. */
  function level(link: Link): number {
    if (!header) return -120;
    if (link.kind === 'send') return header.sends[link.send.id] ?? -120;
    if (link.kind === 'lane') return header.sends[link.lane.id] ?? -120;
    if (link.kind === 'key') return header.keys[link.step.id] ?? -120;
    return header.strips[link.from]?.[1] ?? -120;
  }
  /** 0 at -60 dB, 1 at full scale, in steps of 3 dB: what does not change is not painted. */
  const share = (db: number) => Math.max(0, Math.min(1, Math.ceil((db + 60) / 3) / 20));
  const detector = (link: Link) => (link.kind === 'key' ? (keyed(link.step.kind) ?? '').toLowerCase() : '');
  function says(link: Link): string {
    const [from, to] = [byId.get(link.from)?.name, byId.get(link.to)?.name];
    if (link.kind === 'output') return `${from} feeds ${to}`;
    if (link.kind === 'lane') return `The lane ${link.lane.name} of ${from} feeds ${to}`;
    if (link.kind === 'send')
      return `${from} sends to ${to}, ${link.send.level_db.toFixed(1)} dB, ${link.send.pre ? 'before' : 'after'} its level`;
    return `${from} is the key of the ${detector(link)} on ${to}`;
  }

  const fitted = () => {
    const scale = Math.min(
      1.25,
      (box.width - 2 * MARGIN) / Math.max(map.width, 1),
      (box.height - MARGIN - TOP) / Math.max(map.height, 1),
    );
    const held = Math.max(scale, 0.2);
    return {
      scale: held,
      x: (box.width - held * map.width) / 2,
      y: Math.max(TOP, (box.height - held * map.height) / 2),
    };
  };
  export function fit(): void {
    own = false;
    view = fitted();
  }
  export function zoom(by: number, x: number = box.width / 2, y: number = box.height / 2): void {
    own = true;
    const scale = Math.max(0.2, Math.min(3, view.scale * by));
    const moved = scale / view.scale;
    view = { scale, x: x - (x - view.x) * moved, y: y - (y - view.y) * moved };
  }
  $effect(() => {
    if (!own) view = fitted();
  });

  const wheeling = (element: SVGSVGElement) => {
    const turn = (event: WheelEvent) => {
      event.preventDefault();
      const at = element.getBoundingClientRect();
      zoom(event.deltaY < 0 ? 1.12 : 1 / 1.12, event.clientX - at.left, event.clientY - at.top);
    };
    element.addEventListener('wheel', turn, { passive: false });
    return () => element.removeEventListener('wheel', turn);
  };

  const inMap = (event: { clientX: number; clientY: number }) => {
    const at = svg!.getBoundingClientRect();
    return {
      x: (event.clientX - at.left - view.x) / view.scale,
      y: (event.clientY - at.top - view.y) / view.scale,
    };
  };
  const plateAt = ({ x, y }: { x: number; y: number }) =>
    map.plates.find((p) => x >= p.x - 4 && x <= p.x + PLATE.width + 4 && y >= p.y - 4 && y <= p.y + PLATE.height + 4)
      ?.id ?? null; // prettier-ignore

  function press(event: PointerEvent): void {
    menu = null;
    if (event.button !== 0 || !svg) return;
    svg.setPointerCapture(event.pointerId);
    panning = true;
    choose(null);
  }
  function draw(event: PointerEvent, from: string): void {
    if (event.button !== 0 || !svg) return;
    event.stopPropagation();
    event.preventDefault();
    menu = null;
    svg.setPointerCapture(event.pointerId);
    drawing = { from, ...inMap(event), over: null, keys: false };
  }
  function move(event: PointerEvent): void {
    if (drawing && !drawing.keys) {
      const at = inMap(event);
      const over = plateAt(at);
      drawing = { ...drawing, ...at, over: over === drawing.from ? null : over };
    } else if (panning) {
      own = true;
      view = { ...view, x: view.x + event.movementX, y: view.y + event.movementY };
    }
  }
  function release(): void {
    panning = false;
    if (drawing && !drawing.keys) {
      if (drawing.over) offer(drawing.from, drawing.over);
      drawing = null;
    }
  }
  function offer(from: string, to: string): void {
    const plate = plates.get(to)!;
    menu = {
      from,
      to,
      x: Math.min(view.x + view.scale * plate.x, box.width - 250),
      y: Math.min(view.y + view.scale * (plate.y + PLATE.height) + 4, box.height - 170),
    };
  }
  /** Begin a line from a strip by the keyboard: the arrows choose where to, Enter connects. */
  export function connect(from: string): void {
    const plate = plates.get(from);
    if (!plate) return;
    const to = neighbour(map.plates, from, 'right') ?? neighbour(map.plates, from, 'left');
    drawing = { from, x: plate.x, y: plate.y, over: to, keys: true };
    document.getElementById(`plate-${from}`)?.focus();
  }
  const first = (element: HTMLElement) => element.querySelector('button')?.focus();

  const WAYS = { ArrowLeft: 'left', ArrowRight: 'right', ArrowUp: 'up', ArrowDown: 'down' } as const;
  function plateKeys(event: KeyboardEvent, id: string): void {
    const way = WAYS[event.key as keyof typeof WAYS];
    if (drawing?.keys) {
      if (way) {
        const at = neighbour(map.plates, drawing.over ?? drawing.from, way);
        if (at) drawing = { ...drawing, over: at };
      } else if (event.key === 'Enter') {
        const { from, over } = drawing;
        drawing = null;
        if (over && over !== from) offer(from, over);
      } else if (event.key === 'Escape') drawing = null;
      else return;
    } else if (way && !event.altKey) {
      const next = neighbour(map.plates, id, way);
      if (next) {
        workspace.selection.choose(next);
        choose(null);
        document.getElementById(`plate-${next}`)?.focus();
      }
    } else if (event.key === 'Enter') open(id);
    else if (event.key.toLowerCase() === 'k') connect(id);
    else return;
    event.preventDefault();
    event.stopPropagation();
  }
  function lineKeys(event: KeyboardEvent, link: Link): void {
    if (event.key !== 'Enter' && event.key !== ' ') return;
    choose(link.id);
    event.preventDefault();
    event.stopPropagation();
  }
  function mapKeys(event: KeyboardEvent): void {
    if (event.ctrlKey || event.metaKey || event.altKey) return;
    const acts: Record<string, () => void> = {
      '+': () => zoom(1.2),
      '=': () => zoom(1.2),
      '-': () => zoom(1 / 1.2),
      '0': fit,
      Escape: () => {
        menu = null;
        drawing = null;
      },
    };
    const act = acts[event.key];
    if (!act) return;
    event.preventDefault();
    act();
  }

  const path = (corner: number, width: number, height: number) =>
    `M0 0H${width - corner}L${width} ${corner}V${height}H0Z`;
  const tip = (plate: Plate) => ({ x: plate.x + PLATE.width, y: plate.y + PLATE.height / 2 });
  function second(strip: Strip): string {
    const silent = silentStrip(strip.id);
    if (silent) return silent;
    const steps = strip.path.steps.length;
    const count = steps === 0 ? 'no steps' : steps === 1 ? 'one step' : `${steps} steps`;
    return `${strip.level_db.toFixed(1)} dB, ${count}`;
  }
  const cut = (text: string, most: number) => (text.length > most ? `${text.slice(0, most - 1)}…` : text);
</script>

<div class="map" bind:clientWidth={box.width} bind:clientHeight={box.height}>
  <!-- svelte-ignore a11y_no_noninteractive_element_interactions -->
  <svg
    bind:this={svg}
    role="group"
    aria-label="Map of the strips"
    class:panning
    {@attach wheeling}
    onpointerdown={press}
    onpointermove={move}
    onpointerup={release}
    onpointercancel={release}
    onkeydown={mapKeys}
  >
    <defs>
      <marker
        id="arrow"
        viewBox="0 0 10 10"
        refX="9"
        refY="5"
        markerUnits="userSpaceOnUse"
        markerWidth="11"
        markerHeight="11"
        orient="auto"
      >
        <path d="M0 0.500L9 5L0 9.500Z" />
      </marker>
    </defs>
    <g transform="translate({view.x} {view.y}) scale({view.scale})">
      {#each drawn as { link, shape } (link.id)}
        {@const silent = why(link)}
        {@const now = share(level(link))}
        <g
          class="line {link.kind}"
          class:silent
          class:chosen={chosen === link.id}
          data-line={link.id}
          data-level={level(link).toFixed(1)}
          role="button"
          tabindex="0"
          aria-label={silent ? `${says(link)}. Silent: ${silent}` : says(link)}
          onpointerdown={(event) => {
            event.stopPropagation();
            choose(link.id);
          }}
          onkeydown={(event) => lineKeys(event, link)}
        >
          <title>{says(link)}{silent ? `. Silent: ${silent}` : ''}</title>
          <path class="hit" d={shape.d} />
          {#if now > 0}<path class="live" d={shape.d} style:stroke-width="{1 + 5 * now}px" />{/if}
          <path class="stroke" d={shape.d} marker-end={link.kind === 'key' ? 'url(#arrow)' : undefined} />
        </g>
      {/each}
      {#each map.plates as plate (plate.id)}
        {@const strip = byId.get(plate.id)!}
        {@const heard = header?.strips[plate.id]}
        {@const silent = silentStrip(plate.id)}
        <g
          id="plate-{plate.id}"
          class="plate-{strip.kind} strip"
          class:silent
          class:own={plate.id === workspace.selection.stripId}
          class:over={drawing?.over === plate.id}
          data-plate={plate.id}
          role="button"
          tabindex="0"
          aria-label="{strip.name} {second(strip)}{silent ? `, silent: ${silent}` : ''}"
          transform="translate({plate.x} {plate.y})"
          onpointerdown={(event) => {
            event.stopPropagation();
            menu = null;
            workspace.selection.choose(plate.id);
            choose(null);
          }}
          ondblclick={() => open(plate.id)}
          onkeydown={(event) => plateKeys(event, plate.id)}
        >
          <title
            >{strip.name}: {silent ?? 'double-click to shape it; drag its right edge to connect it'}</title
          >
          <path class="face" d={path(10, PLATE.width, PLATE.height)} />
          <text x="9" y="16" class="name">{cut(strip.name, 18)}</text>
          <text x="9" y="29" class="more">{cut(second(strip), 23)}</text>
          <g class="bars">
            <rect x="0" y={PLATE.height - 4} height="3" width={PLATE.width * share(heard?.[1] ?? -120)} />
          </g>
          {#if strip.solo}<text x={PLATE.width - 22} y="16" class="mark">S</text>{/if}
          {#if strip.mute}<text x={PLATE.width - 22} y="16" class="mark muted">M</text>{/if}
          <!-- svelte-ignore a11y_no_static_element_interactions -->
          <g class="port" data-port={plate.id} onpointerdown={(event) => draw(event, plate.id)}>
            <rect x={PLATE.width - 12} y="10" width="24" height={PLATE.height - 12} />
            <path d="M{PLATE.width - 3} {PLATE.height / 2 - 5}l7 5l-7 5z" />
          </g>
        </g>
      {/each}
      {#each drawn as { link, shape } (link.id)}
        {#if link.kind === 'send'}
          <g class="tag" class:silent={why(link)} transform="translate({shape.x} {shape.y})">
            <rect x="-21" y="-7" width="42" height="14" />
            <text text-anchor="middle" y="4"
              >{link.send.level_db <= -90 ? 'off' : link.send.level_db.toFixed(1)}</text
            >
          </g>
        {/if}
      {/each}
      {#if drawing}
        {@const from = tip(plates.get(drawing.from)!)}
        {@const over = drawing.over ? plates.get(drawing.over) : null}
        {@const to = over ? { x: over.x, y: over.y + PLATE.height / 2 } : drawing}
        <path
          class="drawing"
          d="M{from.x} {from.y}C{from.x + 40} {from.y} {to.x - 40} {to.y} {to.x} {to.y}"
        />
      {/if}
    </g>
  </svg>
  {#if menu}
    {@const { from, to } = menu}
    <div
      class="menu"
      role="menu"
      tabindex="-1"
      aria-label="Connect {byId.get(from)?.name} to {byId.get(to)?.name}"
      style:left="{menu.x}px"
      style:top="{menu.y}px"
      {@attach first}
      onkeydown={(event) => {
        event.stopPropagation();
        const step = { ArrowDown: 1, ArrowUp: -1 }[event.key];
        if (event.key === 'Escape') menu = null;
        if (!step) return;
        event.preventDefault();
        const items = [...event.currentTarget.querySelectorAll('button')];
        items[
          (items.indexOf(document.activeElement as HTMLButtonElement) + step + items.length) % items.length
        ]?.focus();
      }}
    >
      <p class="soft">{byId.get(from)?.name} to {byId.get(to)?.name}</p>
      {#each choices(strips, from, to, keyed) as choice (choice.label)}
        <button
          role="menuitem"
          onclick={() => {
            menu = null;
            void workspace.edit(choice.edit);
          }}>{choice.label}</button
        >
      {/each}
    </div>
  {/if}
  {#if drawing?.keys}
    <p class="prompt" role="status">
      {byId.get(drawing.from)?.name} to {byId.get(drawing.over ?? '')?.name ?? '...'}: the arrows choose,
      Enter connects, Escape ends
    </p>
  {/if}
</div>

<style>
  .map {
    position: relative;
    height: 100%;
    min-width: 0;
    overflow: hidden;
  }
  svg {
    width: 100%;
    height: 100%;
    display: block;
    touch-action: none;
    cursor: grab;
  }
  .panning {
    cursor: grabbing;
  }
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
  .line {
    cursor: pointer;
    outline: none;
  }
  .line path {
    fill: none;
  }
  .hit {
    stroke: transparent;
    stroke-width: 11px;
  }
  .stroke {
    stroke: var(--ink-soft);
    stroke-width: 1.5px;
  }
  .live {
    stroke: var(--after);
    opacity: 0.35;
  }
  .send .stroke,
  .lane .stroke {
    stroke-width: 1px;
  }
  .lane .stroke {
    stroke-dasharray: 8 2;
  }
  .key .stroke {
    stroke: var(--key);
    stroke-dasharray: 4 3;
  }
  .key .live {
    stroke: var(--key);
  }
  .line.silent .stroke {
    opacity: 0.35;
  }
  .line.chosen .stroke,
  .line:focus-visible .stroke {
    stroke: var(--after);
    stroke-width: 2.5px;
    opacity: 1;
  }
  marker path {
    fill: var(--key);
  }
  .tag {
    pointer-events: none;
  }
  .tag rect {
    fill: var(--ground);
  }
  .tag text {
    font-family: var(--mono);
    font-size: 0.625rem;
    fill: var(--ink-soft);
  }
  .tag.silent text {
    text-decoration: line-through;
  }
  .drawing {
    fill: none;
    stroke: var(--after);
    stroke-width: 2px;
    stroke-dasharray: 6 4;
    pointer-events: none;
  }
  .menu {
    position: absolute;
    z-index: 5;
    min-width: 210px;
    background: var(--plate);
    border: 1px solid var(--ink-soft);
    padding: 6px 0;
  }
  .menu p {
    margin: 0;
    padding: 0 12px 4px;
  }
  .menu button {
    display: block;
    width: 100%;
    text-align: left;
    height: 1.625rem;
    padding: 0 12px;
    white-space: nowrap;
  }
  .menu button:hover,
  .menu button:focus-visible {
    background: var(--ground);
  }
  .prompt {
    position: absolute;
    left: 12px;
    bottom: 8px;
    margin: 0;
    padding: 2px 8px;
    background: var(--plate);
    border: 1px solid var(--after);
  }
</style>
