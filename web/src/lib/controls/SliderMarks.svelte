<script lang="ts">
  /** What is drawn on a slider's scale: ticks, the wedge, what it is at present, what levers and envelopes make of it. */
  import type { Setting, SettingValue } from '../api/client';
  import { formatSetting, toShare } from './value';

  interface Props {
    setting: Setting;
    /** Where the value lies, of the width. */
    share: number;
    now: SettingValue | undefined;
    range: [number, number] | null;
    course: [number, number][] | null;
  }
  let { setting, share, now, range, course }: Props = $props();
</script>

<i class="track"></i>
<i class="covered" style:width="{share * 100}%"></i>
{#if range}<i
    class="range"
    style:left="{toShare(range[0], setting) * 100}%"
    style:right="{100 - toShare(range[1], setting) * 100}%"
  ></i>{/if}
{#if course}<svg class="course" viewBox="0 0 100 100" preserveAspectRatio="none" aria-hidden="true"
    ><polyline
      points={course.map(([x, y]) => `${(x * 100).toFixed(2)},${(94 - y * 88).toFixed(2)}`).join(' ')}
    /></svg
  >{/if}
{#each setting.ticks as tick (tick)}<i class="tick" style:left="{toShare(tick, setting) * 100}%"></i>{/each}
{#if typeof now === 'number'}<i
    class="wedge now"
    data-now={setting.name}
    title="now {formatSetting(now, setting)}: set by low latency or by loudness compensation"
    style:left="{toShare(now, setting) * 100}%"
  ></i>{/if}
<i class="wedge" style:left="{share * 100}%"></i>

<style>
  i {
    position: absolute;
    display: block;
  }
  .track {
    left: 0;
    right: 0;
    top: 7px;
    height: 1px;
    background: var(--ink-soft);
    opacity: 0.5;
  }
  .covered {
    left: 0;
    top: 6px;
    height: 2px;
    background: var(--after);
  }
  .tick {
    top: 8px;
    width: 1px;
    height: 4px;
    background: var(--ink-soft);
    opacity: 0.7;
  }
  .wedge {
    top: 0;
    width: 9px;
    height: 8px;
    margin-left: -4.5px;
    background: var(--ink);
    clip-path: polygon(0 0, 100% 0, 100% 45%, 50% 100%, 0 45%);
  }
  .now {
    background: var(--ink-soft);
    opacity: 0.6;
  }
  .range {
    top: 4px;
    height: 6px;
    border: 1px solid var(--key);
    border-block: 0;
    background: color-mix(in srgb, var(--key) 25%, transparent);
  }
  .course {
    position: absolute;
    left: 0;
    top: 9px;
    width: 100%;
    height: 7px;
    pointer-events: none;
    overflow: visible;
  }
  .course polyline {
    fill: none;
    stroke: var(--after);
    stroke-width: 1.25;
    vector-effect: non-scaling-stroke;
  }
</style>
