<script lang="ts">
  /** Sections against loudness: what comes in and what leaves, what each section lost, and the wish to keep the contrast. */
  import { untrack } from 'svelte';
  import { api } from '../lib/api/client';
  import SectionsTable from '../lib/contrast/SectionsTable.svelte';
  import StripsTable from '../lib/contrast/StripsTable.svelte';
  import Segments from '../lib/controls/Segments.svelte';
  import Slider from '../lib/controls/Slider.svelte';
  import { imageOf } from '../lib/draw/canvas';
  import { dragged } from '../lib/draw/drag';
  import { pixel } from '../lib/draw/scale';
  import { leftText } from '../lib/draw/time-left';
  import { numberText } from '../lib/number';
  import PathRail from '../lib/path/PathRail.svelte';
  import * as geometry from '../lib/pictures/geometry/contrast';
  import Plot, { type Mark } from '../lib/pictures/Plot.svelte';
  import { contrast } from '../lib/state/contrast.svelte';
  import { page } from '../lib/state/page.svelte';
  import { workspace } from '../lib/state/workspace.svelte';
  import SaveAs from '../lib/tables/SaveAs.svelte';
  import StripTree from '../lib/tree/StripTree.svelte';

  let pathHeight = $state(84);
  let box = $state.raw({ width: 0, height: 0 });
  let face = $state<HTMLElement | null>(null);

  const rows = $derived(contrast.answer?.rows ?? []);
  const shown = $derived(contrast.contrast);
  const name = $derived(rows[0]?.name ?? '');
  const wish = $derived(workspace.session?.keep_contrast_lu ?? 0);
  const length = $derived(contrast.answer?.length_s ?? workspace.version?.length_s ?? 1);
  const axes = $derived(geometry.axesOf(shown, length, box, wish));
  const lines = $derived(geometry.gridShapes(axes, workspace.grid));
  const shapes = $derived(shown ? geometry.shapesOf(shown, axes) : []);
  const level = $derived(geometry.wishLevel(shown, wish));
  const LEGEND: Mark[] = [
    { mark: 'outline', text: 'before' },
    { mark: 'fill', text: 'after, section' },
    { mark: 'after', text: 'after, 3 s' },
    { mark: 'hatch', text: 'taken' },
    { mark: 'grain', text: 'added' },
    { mark: 'ink', text: 'target' },
  ];

  // Whatever is chosen, shown or edited is measured anew.
  $effect(() => {
    void [workspace.version?.revision, contrast.several];
    void [workspace.selection.stripId, workspace.selection.stepId, workspace.selection.laneId];
    void workspace.selection.stripIds;
    untrack(() => contrast.soon());
    return () => contrast.stop();
  });

  const put = (value: number, gesture: string | null) =>
    workspace.move('session', null, { keep_contrast_lu: value }, gesture);
  const drag = dragged({
    hold: () => {
      const was = wish;
      return (gesture) => put(was, gesture);
    },
    move: ({ y, gesture }) => {
      if (shown) put(geometry.wishAt(y, shown, axes), gesture);
    },
  });

  const table = async () => {
    const id = workspace.version?.id;
    return id === undefined ? undefined : workspace.attempt(() => api.contrastCsv(id, contrast.question()));
  };
</script>

<main class="contrast">
  <div class="tree"><StripTree stageGain={() => (page.dialog = 'stage gain')} /></div>
  <div class="path">
    <PathRail bind:adding={page.adding} bind:bands={page.bands} bind:height={pathHeight} />
  </div>
  <section
    class="stand"
    aria-label="Contrast"
    aria-busy={contrast.stale}
    data-revision={contrast.answer?.revision ?? ''}
    style:--path="{pathHeight}px"
  >
    <header>
      <h2 title={name}>{name || 'Contrast'}</h2>
      {#if shown && shown.before_lu !== null && shown.after_lu !== null}
        <span class="soft"
          >quietest to loudest <b class="figure" data-figure="contrast_before"
            >{numberText(shown.before_lu)}</b
          >
          LU before, <b class="figure" data-figure="contrast_after">{numberText(shown.after_lu)}</b> after</span
        >
      {/if}
      <span class="space"></span>
      <span class="soft figure" role="status" data-figure="contrast_state"
        >{contrast.asking.fraction !== null
          ? `measuring ${Math.round(100 * contrast.asking.fraction)} %${leftText(contrast.asking.left)}`
          : contrast.waiting
            ? 'waiting'
            : contrast.stale
              ? 'out of date'
              : 'measured'}</span
      >
      {#if contrast.asking.fraction !== null}
        <button class="button" onclick={() => contrast.asking.cancel()}>Cancel</button>
      {:else if contrast.stale && !contrast.waiting}
        <button class="button" onclick={() => void contrast.run()}>Measure</button>
      {/if}
    </header>
    <div class="wish">
      <Slider
        setting={workspace.described.setting('session', 'keep_contrast_lu')}
        value={wish}
        change={(value, gesture) => put(Number(value), gesture)}
      />
      <Segments
        label="Table"
        options={[
          ['sections', 'Sections', 'The chosen scope, section by section'],
          ['strips', 'Strips', 'The strips chosen together, or else the main and its buses, side by side'],
        ]}
        value={contrast.several ? 'strips' : 'sections'}
        change={(value) => (contrast.several = value === 'strips')}
      />
      <span class="space"></span>
      <SaveAs
        name="{workspace.session?.name ?? ''} contrast {name}"
        disabled={!shown}
        csv={table}
        json={() => contrast.answer}
        png={(take) => face && imageOf(face, box, [...lines, ...shapes], take)}
      />
    </div>
    <div class="picture plate" bind:this={face}>
      <div class="face">
        <Plot
          name="contrast-plot"
          label="Loudness of the sections before and after, over time"
          says={shown ? geometry.says(shown) : 'Measuring.'}
          title="Loudness, LUFS, over bars"
          legend={LEGEND}
          layers={[lines, shapes]}
          bind:box
          playhead={{
            start_s: 0,
            end_s: length,
            left: geometry.LEFT,
            right: geometry.RIGHT,
            top: geometry.TOP,
            bottom: geometry.BOTTOM,
          }}
        >
          {#if level !== null}
            <div
              class="level-handle"
              data-picture="wish"
              role="slider"
              tabindex="-1"
              aria-label="Wish in the picture"
              aria-valuenow={wish}
              aria-valuetext="{numberText(wish)} LU"
              style:top="{pixel(Math.max(level, axes.levels.low), axes.levels)}px"
              style:left="{geometry.LEFT}px"
              style:right="{geometry.RIGHT}px"
              {@attach drag}
            >
              <span class="figure">keep {numberText(wish)} LU</span>
            </div>
          {/if}
        </Plot>
      </div>
    </div>
    {#each shown?.hints ?? [] as hint (hint.name)}
      <p class="hint" data-hint={hint.name}>{hint.text}</p>
    {/each}
    <div class="tables">
      {#if shown && !shown.sections.length}
        <p class="soft">
          There are no sections yet. <button class="button" onclick={() => (page.dialog = 'sections')}
            >Make sections</button
          >
        </p>
      {:else if shown && contrast.several}
        <StripsTable {rows} sections={shown.sections} />
      {:else if shown}
        <SectionsTable {shown} />
      {/if}
    </div>
  </section>
</main>

<style>
  .contrast {
    height: 100%;
    min-height: 0;
    display: grid;
    grid-template:
      'tree path' auto
      'tree stand' minmax(0, 1fr) / 248px minmax(0, 1fr);
  }
  .tree {
    grid-area: tree;
    border-right: 1px solid var(--line);
    min-height: 0;
  }
  .path {
    grid-area: path;
    border-bottom: 1px solid var(--line);
    min-width: 0;
  }
  .stand {
    grid-area: stand;
    min-width: 0;
    min-height: 0;
    display: flex;
    flex-direction: column;
    padding: 0 12px 8px;
  }
  header,
  .wish {
    display: flex;
    align-items: center;
    gap: 12px;
    min-width: 0;
    min-height: 40px;
    flex-wrap: wrap;
  }
  header h2 {
    font-size: 0.9375rem;
    overflow: hidden;
    text-overflow: ellipsis;
    white-space: nowrap;
  }
  .wish {
    margin-bottom: 8px;
  }
  .wish > :global(:first-child) {
    flex: 0 1 320px;
  }
  .space {
    flex: 1;
  }
  .picture {
    flex: 1 1 200px;
    min-height: 180px;
  }
  .tables {
    flex: none;
    max-height: 45%;
    overflow: auto;
    margin-top: 8px;
  }
  .hint {
    margin: 8px 0 0;
    padding-left: 8px;
    border-left: 3px solid var(--taken);
    font-size: 0.75rem;
    line-height: 1.0625rem;
  }
  @media (max-width: 47.5em) {
    .contrast {
      display: flex;
      flex-direction: column;
      overflow: auto;
    }
    .contrast > * {
      flex: none;
    }
    .tree {
      order: 1;
    }
    .picture {
      flex: none;
      height: 280px;
    }
    .tables {
      max-height: none;
    }
  }
</style>
