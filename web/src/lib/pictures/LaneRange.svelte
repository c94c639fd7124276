<script lang="ts">
  /** A chosen stretch of a lane, whose points are moved, scaled, copied and removed as one. */
  import { newId, type Breakpoint, type Setting } from '../api/client';
  import { arrowWay, nudged } from '../controls/arrows';
  import { beatLength } from '../draw/grid';
  import { automation } from '../state/automation.svelte';
  import type { Address } from '../state/course';
  import { view } from '../state/timeline.svelte';
  import { workspace } from '../state/workspace.svelte';
  import { snappedTo } from './geometry/envelope';

  interface Props {
    address: Address;
    /** The points that lie in it. */
    inside: Breakpoint[];
    setting: Setting;
    onOff: boolean;
    /** Where a time lies in the lane, in pixels. */
    x: (at_s: number) => number;
    chosen: { from_s: number; to_s: number } | null;
  }
  let { address, inside, setting, onOff, x, chosen = $bindable() }: Props = $props();

  function move(change: { by_s?: number; by?: number; scale?: number; copy_points?: boolean }): void {
    if (!chosen) return;
    const { from_s: start_s, to_s: end_s } = chosen;
    void workspace.edit({ op: 'move_range', ...address, start_s, end_s, seed: newId(), ...change });
    if (change.by_s && !change.copy_points)
      chosen = { from_s: Math.max(0, start_s + change.by_s), to_s: end_s + change.by_s };
  }
  async function thin(): Promise<void> {
    if (!chosen) return;
    const before = inside.length;
    const { from_s: start_s, to_s: end_s } = chosen;
    await workspace.edit({ op: 'thin_range', ...address, start_s, end_s, seed: newId() });
    const left = inside.length;
    workspace.note(
      left < before ? `${before} points became ${left}.` : 'No fewer points would do.',
      'note',
      undefined,
      'thin',
    );
  }
  function keydown(event: KeyboardEvent): void {
    if (event.key === 'Delete' || event.key === 'Backspace') {
      event.preventDefault();
      event.stopPropagation();
      void automation.remove(
        address,
        inside.map((point) => point.id),
      );
      chosen = null;
      return;
    }
    const scaled = event.altKey;
    const way = arrowWay(event, beatLength(workspace.grid), onOff);
    if (!way) return;
    if (scaled && way.share) return move({ scale: way.share > 0 ? 1.1 : 1 / 1.1 });
    if (way.time_s) return move({ by_s: way.time_s });
    const first = inside[0]!.value;
    const next = nudged(first, way.share, setting, onOff);
    move({ by: setting.scale === 'log' ? next / first : next - first });
  }
  function toPlayhead(): void {
    const at_s = workspace.listening.heardPosition();
    const to_s = view.snap ? snappedTo(at_s, workspace.grid, workspace.session?.sections ?? []) : at_s;
    move({ by_s: to_s - inside[0]!.at_s, copy_points: true });
  }
</script>

{#if chosen}
  <div
    class="range"
    role="toolbar"
    tabindex="0"
    aria-label="Chosen stretch: {inside.length} points. Arrows move it, with Alt up and down scale it, Delete removes it"
    style:left="{x(chosen.from_s)}px"
    style:width="{x(chosen.to_s) - x(chosen.from_s)}px"
    onkeydown={keydown}
  >
    <button class="act wide" title="Further from their mean" onclick={() => move({ scale: 1.25 })}
      >wider</button
    >
    <button class="act wide" title="Nearer to their mean" onclick={() => move({ scale: 0.8 })}>flatter</button
    >
    <button class="act wide" title="Copy to the playhead" onclick={toPlayhead}>copy</button>
    <button
      class="act wide"
      title="The fewest points that say the same, within 1 % of the scale"
      onclick={thin}>thin</button
    >
    <button class="act" aria-label="Choose nothing" onclick={() => (chosen = null)}>x</button>
  </div>
{/if}

<style>
  .range {
    position: absolute;
    top: 0;
    bottom: 0;
    display: flex;
    gap: 2px;
    align-items: start;
    padding: 2px;
    border: 1px solid var(--key);
    border-block: 0;
    background: color-mix(in srgb, var(--key) 14%, transparent);
    overflow: visible;
  }
  .wide {
    width: auto;
    padding: 0 4px;
  }
</style>
