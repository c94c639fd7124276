<script lang="ts">
  /** Strips as plates, outputs as solid lines, sends thin with their level, keys dashed with an arrow into the detector. */
  import { wheeled } from '../draw/wheel';
  import { workspace } from '../state/workspace.svelte';
  import { choices, curve, links, type Link } from './links';
  import { layout, neighbour, PLATE, type Plate } from './layout';
  import MapLine from './MapLine.svelte';
  import MapMenu from './MapMenu.svelte';
  import MapPlate from './MapPlate.svelte';
  import { fitted, zoomed } from './view';

  interface Props {
    /** The line that is chosen, if one is. */
    chosen: string | null;
    choose: (link: string | null) => void;
    open: (strip: string) => void;
  }
  let { chosen, choose, open }: Props = $props();

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
    const processor = workspace.described.processor(kind);
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
  const detector = (link: Link) => (link.kind === 'key' ? (keyed(link.step.kind) ?? '').toLowerCase() : '');
  function says(link: Link): string {
    const [from, to] = [byId.get(link.from)?.name, byId.get(link.to)?.name];
    if (link.kind === 'output') return `${from} feeds ${to}`;
    if (link.kind === 'lane') return `The lane ${link.lane.name} of ${from} feeds ${to}`;
    if (link.kind === 'send')
      return `${from} sends to ${to}, ${link.send.level_db.toFixed(1)} dB, ${link.send.pre ? 'before' : 'after'} its level`;
    return `${from} is the key of the ${detector(link)} on ${to}`;
  }

  export function fit(): void {
    own = false;
    view = fitted(map, box);
  }
  export function zoom(by: number, x: number = box.width / 2, y: number = box.height / 2): void {
    own = true;
    view = zoomed(view, by, x, y);
  }
  $effect(() => {
    if (!own) view = fitted(map, box);
  });

  const wheel = wheeled((event, element: SVGSVGElement) => {
    const at = element.getBoundingClientRect();
    zoom(event.deltaY < 0 ? 1.12 : 1 / 1.12, event.clientX - at.left, event.clientY - at.top);
  });

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

  const tip = (plate: Plate) => ({ x: plate.x + PLATE.width, y: plate.y + PLATE.height / 2 });
</script>

<div class="map" bind:clientWidth={box.width} bind:clientHeight={box.height}>
  <!-- svelte-ignore a11y_no_noninteractive_element_interactions -->
  <svg
    bind:this={svg}
    role="group"
    aria-label="Map of the strips"
    class:panning
    {@attach wheel}
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
        <MapLine
          {link}
          d={shape.d}
          says={says(link)}
          silent={why(link)}
          level_db={level(link)}
          chosen={chosen === link.id}
          choose={() => choose(link.id)}
        />
      {/each}
      {#each map.plates as plate (plate.id)}
        <MapPlate
          {plate}
          strip={byId.get(plate.id)!}
          silent={silentStrip(plate.id)}
          level_db={header?.strips[plate.id]?.[1] ?? -120}
          over={drawing?.over === plate.id}
          press={() => {
            menu = null;
            workspace.selection.choose(plate.id);
            choose(null);
          }}
          open={() => open(plate.id)}
          keydown={(event) => plateKeys(event, plate.id)}
          draw={(event) => draw(event, plate.id)}
        />
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
    <MapMenu
      x={menu.x}
      y={menu.y}
      from={byId.get(menu.from)?.name ?? ''}
      to={byId.get(menu.to)?.name ?? ''}
      choices={choices(strips, menu.from, menu.to, keyed)}
      take={(edit) => {
        menu = null;
        if (edit) void workspace.edit(edit);
      }}
    />
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
