<script lang="ts" module>
  /** One entry of a legend. */
  export interface Mark {
    mark:
      'outline' | 'fill' | 'pale' | 'hatch' | 'grain' | 'key' | 'after' | 'ink' | 'soft' | 'dashed' | 'taken';
    text: string;
  }
</script>

<script lang="ts">
  /**
   * One picture: title and legend, layers of shapes from the lowest up, a playhead, what can be dragged (`children`), its own controls
   * (`tools`), and its figures in a sentence for those who cannot see it.
   */
  import type { Snippet } from 'svelte';
  import type { HTMLAttributes } from 'svelte/elements';
  import { whenShown } from '../draw/canvas';
  import type { Box, Shape } from '../draw/shapes';
  import Layer from './Layer.svelte';
  import Playhead from './Playhead.svelte';

  interface Props extends HTMLAttributes<HTMLElement> {
    name: string;
    label: string;
    says: string;
    title?: string;
    legend?: Mark[];
    layers: Shape[][];
    /** The picture's size in pixels, told to whoever works out the shapes. */
    box: Box;
    /** The stretch of time along the axis, and the plot's edges in pixels from those of the picture. */
    playhead?: {
      start_s: number;
      end_s: number;
      left: number;
      right: number;
      top: number;
      bottom: number;
    } | null;
    tools?: Snippet;
    /** A sentence about what is seen, under the picture. */
    verdict?: string;
    children?: Snippet;
  }
  let {
    name,
    label,
    says,
    title = '',
    legend = [],
    layers,
    box = $bindable(),
    playhead = null,
    tools,
    verdict = '',
    children,
    ...rest
  }: Props = $props();
  let area = $state<HTMLElement | null>(null);
  let shown = $state(0);
  /** Where it does not fit beside the title, or there are controls, the legend stands under the picture. Widths in pixels, rough. */
  const LETTER = 6.5;
  const MARK = 30;
  const EDGES = 64;
  const wanted = $derived(
    legend.reduce((sum, { text }) => sum + MARK + LETTER * text.length, EDGES + LETTER * title.length),
  );
  const below = $derived(legend.length > 0 && (Boolean(tools) || (box.width > 0 && box.width < wanted)));

  $effect(() => {
    const element = area;
    if (!element) return;
    return whenShown(element, () => {
      box = { width: element.clientWidth, height: element.clientHeight };
      shown += 1;
    });
  });
</script>

{#snippet marks()}
  <ul class="legend" aria-hidden="true">
    {#each legend as { mark, text } (text)}<li><i class={mark}></i>{text}</li>{/each}
  </ul>
{/snippet}

<figure class="frame {name}" aria-label={label} {...rest}>
  {#if tools}
    <div class="tools">
      <span class="room" aria-hidden="true"><span class="title">{title}</span></span>{@render tools()}
    </div>
  {/if}
  <div class="plot" bind:this={area}>
    {#each layers as shapes, n (n)}<Layer {shapes} {shown} />{/each}
    {#if !tools && (title || (legend.length && !below))}
      <div class="top" aria-hidden="true">
        <span class="title">{title}</span>
        {#if !below}{@render marks()}{/if}
      </div>
    {/if}
    {#if playhead}<Playhead {...playhead} />{/if}
    {#if box.width}{@render children?.()}{/if}
  </div>
  {#if below}{@render marks()}{/if}
  {#if verdict}<p class="verdict" data-figure="verdict">{verdict}</p>{/if}
  <figcaption class="unseen">{says}</figcaption>
</figure>

<style>
  .frame {
    margin: 0;
    height: 100%;
    min-width: 0;
    display: flex;
    flex-direction: column;
    position: relative;
  }
  .plot {
    position: relative;
    flex: 1;
    min-height: 0;
    overflow: hidden;
    container-type: inline-size;
  }
  .frame > .legend {
    flex: none;
    gap: 0 10px;
    margin: 0;
    padding: 0 8px 2px;
    justify-content: flex-start;
    color: var(--ink-soft);
    font-size: 0.75rem;
    line-height: 1rem;
  }
  .top,
  .tools {
    display: flex;
    gap: 8px;
    font-size: 0.75rem;
    line-height: 1rem;
  }
  .top {
    position: absolute;
    left: 40px;
    right: 8px;
    top: 4px;
    gap: 4px 12px;
    flex-wrap: wrap;
    justify-content: space-between;
    color: var(--ink-soft);
    pointer-events: none;
  }
  .title {
    padding: 0 4px;
    white-space: nowrap;
  }
  .legend {
    display: flex;
    gap: 12px;
    margin: 0 0 0 auto;
    padding: 0;
    list-style: none;
    white-space: nowrap;
    flex-wrap: wrap;
    justify-content: flex-end;
  }
  .legend li {
    background: color-mix(in srgb, var(--plate) 80%, transparent);
  }
  .legend i {
    display: inline-block;
    width: 12px;
    height: 8px;
    margin-right: 5px;
  }
  .outline {
    border: 1px solid var(--ink-soft);
  }
  .fill {
    background: var(--after);
  }
  .pale {
    background: color-mix(in srgb, var(--after) 45%, var(--plate));
  }
  .hatch {
    border: 1px solid var(--taken);
    background: repeating-linear-gradient(135deg, transparent 0 2px, var(--taken) 2px 3px);
  }
  .grain {
    border: 1px solid var(--after);
    background: radial-gradient(var(--after) 0.9px, transparent 1px) 0 0 / 4px 4px;
  }
  .legend :is(.key, .dashed, .after, .ink, .soft, .taken) {
    height: 0;
    vertical-align: middle;
    border-top: 2px solid var(--ink);
  }
  .legend .key {
    border-color: var(--key);
  }
  .legend .after {
    border-color: var(--after);
  }
  .legend .taken {
    border-color: var(--taken);
  }
  .legend .soft {
    border-color: var(--ink-soft);
  }
  .legend .dashed {
    border-top-style: dashed;
    border-color: var(--ink-soft);
  }
  .tools {
    flex: none;
    flex-wrap: wrap;
    align-items: center;
    gap: 2px 8px;
    padding: 2px 12px 0 36px;
    color: var(--ink-soft);
  }
  /* A title for which there is no room goes into a second line, which is not shown: no title is cut in its middle. */
  .room {
    display: flex;
    flex: 1;
    flex-wrap: wrap;
    min-width: 0;
    height: 1.25rem;
    line-height: 1.25rem;
    overflow: hidden;
  }
  .room::before {
    content: '';
    width: 1px;
  }
  .verdict {
    flex: none;
    margin: 0;
    padding: 0 8px 4px;
    font-size: 0.75rem;
    line-height: 1rem;
  }
  .tools :global(button) {
    height: 1.25rem;
    line-height: 1.125rem;
    padding: 0 6px;
    font-size: 0.75rem;
  }
  .unseen {
    position: absolute;
    width: 1px;
    height: 1px;
    overflow: hidden;
    clip-path: inset(50%);
    white-space: nowrap;
  }
  /* What the pictures put over their canvases. */
  .plot :global(.note) {
    position: absolute;
    color: var(--ink-soft);
    font-size: 0.75rem;
    line-height: 1rem;
    pointer-events: none;
  }
  .plot :global(.level-handle) {
    position: absolute;
    height: 13px;
    margin-top: -6px;
    cursor: ns-resize;
    touch-action: none;
  }
  .plot :global(.level-handle::before) {
    content: '';
    position: absolute;
    left: 0;
    right: 0;
    top: 6px;
    border-top: 1.5px solid var(--ink);
  }
  .plot :global(.level-handle > span) {
    position: absolute;
    right: 0;
    top: -4px;
    padding: 0 14px 0 6px;
    line-height: 1.25rem;
    background: var(--ink);
    color: var(--plate);
    clip-path: polygon(0 0, calc(100% - 8px) 0, 100% 50%, calc(100% - 8px) 100%, 0 100%);
  }
</style>
