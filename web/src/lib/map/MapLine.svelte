<script lang="ts">
  /** One line of the map, with the level that runs along it. */
  import type { Link } from './links';
  import { levelShare } from './view';

  interface Props {
    link: Link;
    /** The line as a path. */
    d: string;
    says: string;
    /** Why nothing is heard of it. */
    silent: string | null;
    level_db: number;
    chosen: boolean;
    choose: () => void;
  }
  let { link, d, says, silent, level_db, chosen, choose }: Props = $props();
  const now = $derived(levelShare(level_db));

  function keydown(event: KeyboardEvent): void {
    if (event.key !== 'Enter' && event.key !== ' ') return;
    choose();
    event.preventDefault();
    event.stopPropagation();
  }
</script>

<g
  class="line {link.kind}"
  class:silent
  class:chosen
  data-line={link.id}
  data-level={level_db.toFixed(1)}
  role="button"
  tabindex="0"
  aria-label={silent ? `${says}. Silent: ${silent}` : says}
  onpointerdown={(event) => {
    event.stopPropagation();
    choose();
  }}
  onkeydown={keydown}
>
  <title>{says}{silent ? `. Silent: ${silent}` : ''}</title>
  <path class="hit" {d} />
  {#if now > 0}<path class="live" {d} style:stroke-width="{1 + 5 * now}px" />{/if}
  <path class="stroke" {d} marker-end={link.kind === 'key' ? 'url(#arrow)' : undefined} />
</g>

<style>
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
</style>
