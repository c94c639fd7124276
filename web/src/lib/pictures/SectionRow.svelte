<script lang="ts">
  /** The row of the sections: a press listens to one, a drag makes one, edges are dragged, a double-click renames. */
  import { tick } from 'svelte';
  import { toolbar } from '../controls/toolbar';
  import type { Section } from '../api/client';
  import * as timeline from '../state/timeline.svelte';
  import { workspace } from '../state/workspace.svelte';

  interface Props {
    from_s: number;
    to_s: number;
    /** The time at the pointer over an element that spans from_s to to_s. */
    at: (event: PointerEvent, element: Element) => number;
  }
  let { from_s, to_s, at }: Props = $props();
  /** Less than this is no section. */
  const MIN_S = 0.05;

  /** A section being made, or an edge of one being moved. */
  let making = $state<{ from: number; to: number } | null>(null);
  let edge = $state<{ section: Section; side: 'start_s' | 'end_s'; at: number } | null>(null);
  let renaming = $state<string | null>(null);

  const sections = $derived(workspace.session?.sections ?? []);
  const percent = (place: number) => (100 * (place - from_s)) / (to_s - from_s);
  const sorted = (span: { from: number; to: number }) =>
    [Math.min(span.from, span.to), Math.max(span.from, span.to)] as const;
  const shown = $derived(
    sections
      .map((section) => (edge?.section.id === section.id ? { ...section, [edge.side]: edge.at } : section))
      .filter((section) => section.end_s > from_s && section.start_s < to_s),
  );

  async function made(): Promise<void> {
    if (!making) return;
    const [start, end] = sorted(making).map(timeline.snapped) as [number, number];
    making = null;
    if (end - start < MIN_S) return;
    renaming = await timeline.add(start, end);
  }

  function dropEdge(): void {
    if (!edge) return;
    const { section, side, at: place } = edge;
    edge = null;
    const next = { ...section, [side]: place };
    timeline.resize(section, next.start_s, next.end_s);
  }

  function keys(event: KeyboardEvent, section: Section, index: number): void {
    const beside = { ArrowRight: sections[index + 1], ArrowLeft: sections[index - 1] }[event.key];
    if (beside && !event.altKey) {
      document.querySelector<HTMLElement>(`[data-section="${beside.id}"] .name`)?.focus();
    } else if (event.key === 'F2') renaming = section.id;
    else return;
    event.preventDefault();
    event.stopPropagation();
  }
  async function focusName(id: string): Promise<void> {
    await tick();
    document.querySelector<HTMLElement>(`[data-section="${id}"] .name`)?.focus();
  }
  const focus = (field: HTMLInputElement) => {
    field.focus();
    field.select();
  };
</script>

<div
  class="sections"
  role="toolbar"
  aria-label="Sections"
  tabindex="-1"
  {@attach toolbar}
  onpointerdown={(event) => {
    if (event.button !== 0 || event.target !== event.currentTarget) return;
    event.currentTarget.setPointerCapture(event.pointerId);
    const place = at(event, event.currentTarget);
    making = { from: place, to: place };
  }}
  onpointermove={(event) => {
    const place = timeline.snapped(at(event, event.currentTarget));
    if (making) making.to = place;
    if (edge) edge.at = place;
  }}
  onpointerup={() => (edge ? dropEdge() : made())}
  onpointercancel={() => (making = edge = null)}
>
  {#each shown as section (section.id)}
    {@const index = sections.findIndex((other) => other.id === section.id)}
    <div
      class="section"
      class:chosen={workspace.listening.passage.start_s === section.start_s &&
        workspace.listening.passage.end_s === section.end_s}
      data-section={section.id}
      style:left="{Math.max(0, percent(section.start_s))}%"
      style:right="{Math.max(0, 100 - percent(section.end_s))}%"
    >
      {#if renaming === section.id}
        <input
          aria-label="Name of the section"
          value={section.name}
          maxlength="120"
          {@attach focus}
          onblur={(event) => {
            timeline.rename(section, event.currentTarget.value);
            renaming = null;
          }}
          onkeydown={(event) => {
            event.stopPropagation();
            if (event.key === 'Enter') event.currentTarget.blur();
            if (event.key === 'Escape') renaming = null;
            if (event.key === 'Enter' || event.key === 'Escape') void focusName(section.id);
          }}
        />
      {:else}
        <button
          class="name"
          title="{section.name}: listen to it; double-click or F2 renames, Delete removes"
          onclick={() => timeline.take(section)}
          ondblclick={() => (renaming = section.id)}
          onkeydown={(event) => keys(event, section, index)}>{section.name}</button
        >
      {/if}
      {#each ['start_s', 'end_s'] as const as side (side)}
        <i
          class="edge {side}"
          role="presentation"
          data-edge={side}
          onpointerdown={(event) => {
            if (event.button !== 0) return;
            event.stopPropagation();
            const row = event.currentTarget.closest('.sections')!;
            row.setPointerCapture(event.pointerId);
            edge = { section, side, at: section[side] };
          }}
        ></i>
      {/each}
    </div>
  {/each}
  {#if making}
    {@const [start, end] = sorted(making)}
    <i class="new" style:left="{percent(start)}%" style:width="{percent(end) - percent(start)}%"></i>
  {/if}
  {#if !sections.length && !making}<span class="soft hint">Drag here to make a section</span>{/if}
</div>

<style>
  .sections {
    position: absolute;
    left: 0;
    right: 0;
    top: 16px;
    height: 1.375rem;
    border-block: 1px solid var(--line);
    cursor: crosshair;
    touch-action: none;
    overflow: hidden;
  }
  .section {
    position: absolute;
    top: 0;
    bottom: 0;
    border-left: 1px solid var(--ink-soft);
    border-right: 1px solid var(--ink-soft);
    background: var(--ground);
    overflow: hidden;
  }
  .name {
    width: 100%;
    height: 100%;
    padding: 0 8px;
    border: 0;
    text-align: left;
    font-size: 0.75rem;
    line-height: 1.25rem;
    color: var(--ink-soft);
    white-space: nowrap;
    overflow: hidden;
    text-overflow: ellipsis;
  }
  .section input {
    width: 100%;
    height: 1.25rem;
    padding: 0 6px;
    border: 0;
    font-size: 0.75rem;
    background: var(--plate);
  }
  .chosen {
    background: color-mix(in srgb, var(--after) 14%, var(--plate));
  }
  .chosen .name {
    color: var(--ink);
    font-weight: 650;
  }
  .edge {
    position: absolute;
    top: 0;
    bottom: 0;
    width: 6px;
    cursor: ew-resize;
  }
  .start_s {
    left: 0;
  }
  .end_s {
    right: 0;
  }
  .new {
    position: absolute;
    top: 0;
    bottom: 0;
    border: 1px dashed var(--after);
  }
  .hint {
    padding: 0 8px;
    font-size: 0.75rem;
    line-height: 1.25rem;
    pointer-events: none;
  }
</style>
