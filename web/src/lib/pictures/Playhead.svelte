<script lang="ts">
  /**
   * Where the sound is, over a picture of a stretch of time. While it plays the head glides by itself, a pixel at a time, and is only
   * set right where it strays from what sounds: no frame of the page is needed for it.
   */
  import { workspace } from '../state/workspace.svelte';

  interface Props {
    start_s: number;
    end_s: number;
    /** The picture's own edges, in pixels from those of its box. */
    left?: number;
    right?: number;
    top?: number;
    bottom?: number;
    marked?: boolean;
  }
  let { start_s, end_s, left = 0, right = 0, top = 0, bottom = 0, marked = false }: Props = $props();
  let head = $state<HTMLElement | null>(null);
  let width = $state(0);
  /** It may stray so far from what sounds, in seconds. */
  const STRAY_S = 0.04;
  let glide: { animation: Animation; from_s: number } | null = null;

  const still = matchMedia('(prefers-reduced-motion: reduce)');
  const at = (position_s: number) =>
    left + ((position_s - start_s) / (end_s - start_s)) * (width - left - right);
  const placed = (x: number) => `translateX(${x.toFixed(1)}px)`;

  function end(): void {
    glide?.animation.cancel();
    glide = null;
  }

  function follow(): void {
    if (!head || !width) return;
    const position_s = workspace.listening.heardPosition();
    const seen = position_s >= start_s && position_s <= end_s;
    head.style.visibility = seen ? 'visible' : 'hidden';
    if (!seen || !workspace.listening.sounding || still.matches) {
      end();
      if (seen) head.style.transform = placed(at(position_s));
      return;
    }
    if (glide) {
      const shown_s = glide.from_s + Number(glide.animation.currentTime ?? 0) / 1000;
      if (Math.abs(shown_s - position_s) < STRAY_S) return;
      end();
    }
    const [from, to] = [at(position_s), at(end_s)];
    const animation = head.animate([{ transform: placed(from) }, { transform: placed(to) }], {
      duration: Math.max(1, 1000 * (end_s - position_s)),
      easing: `steps(${Math.max(1, Math.round(to - from))})`,
      fill: 'forwards',
    });
    glide = { animation, from_s: position_s };
  }

  $effect(() => {
    const box = head?.parentElement;
    if (!box) return;
    const size = new ResizeObserver(() => (width = box.clientWidth));
    size.observe(box);
    return () => size.disconnect();
  });
  $effect(() => {
    void [start_s, end_s, left, right, width];
    return end;
  });
  $effect(() => {
    void [workspace.listening.position_s, workspace.listening.sounding, start_s, end_s, left, right, width];
    follow();
  });
</script>

<i class="head" class:marked data-playhead bind:this={head} style:top="{top}px" style:bottom="{bottom}px"></i>

<style>
  .head {
    position: absolute;
    left: 0;
    width: 0;
    border-left: 1px dotted var(--ink);
    pointer-events: none;
    will-change: transform;
  }
  .marked {
    border-left: 1.5px solid var(--ink);
  }
  .marked::before {
    content: '';
    position: absolute;
    left: -5px;
    top: 0;
    border: 4.5px solid transparent;
    border-top: 6px solid var(--ink);
  }
</style>
