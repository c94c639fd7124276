<script lang="ts">
  /** A strip's name in the tree: what stands beneath it folds, a double-click renames it, marks say that keys go in or out. */
  import { isKeyed } from '../state/routes';
  import { workspace } from '../state/workspace.svelte';
  import type { Row } from './rows';

  interface Props {
    row: Row;
    renaming: boolean;
    folded: boolean;
    fold: (hide: boolean) => void;
    press: (event: MouseEvent) => void;
    rename: () => void;
    /** The name that was typed, null if none; back: the keyboard goes back to the strip. */
    named: (name: string | null, back: boolean) => void;
  }
  let { row, renaming, folded, fold, press, rename, named }: Props = $props();
  const strip = $derived(row.strip);
  const routed = $derived(workspace.routing?.strips[strip.id]);
  const keyOf = $derived(routed?.keys ?? []);
  const beneath = $derived(`${row.beneath} ${row.beneath === 1 ? 'strip' : 'strips'}`);
  const hint = 'double-click or F2 to rename, drag to a bus to feed it, Alt with the arrows to move';

  const focus = (field: HTMLInputElement) => {
    field.focus();
    field.select();
  };
</script>

{#if renaming}
  <input
    class="rename"
    aria-label="Name"
    value={strip.name}
    maxlength="120"
    {@attach focus}
    onblur={(event) => named(event.currentTarget.value.trim(), false)}
    onkeydown={(event) => {
      event.stopPropagation();
      if (event.key === 'Enter') named(event.currentTarget.value.trim(), true);
      if (event.key === 'Escape') named(null, true);
    }}
  />
{:else}
  <span
    class="name"
    class:bus={strip.kind !== 'track'}
    class:silent={routed?.silent}
    role="presentation"
    style:padding-left="{10 + 9 * row.depth}px"
    title="{strip.name}: {routed?.silent ?? hint}"
    onclick={press}
    ondblclick={rename}
    >{#if row.beneath}<button
        class="fold"
        tabindex="-1"
        aria-label="{folded ? 'Unfold' : 'Fold'} {strip.name}"
        title="{folded ? 'Show' : 'Hide'} the {beneath} beneath"
        ondblclick={(event) => event.stopPropagation()}
        onclick={(event) => {
          event.stopPropagation();
          fold(!folded);
        }}>{folded ? '+' : '\u2212'}</button
      >{/if}<span>{strip.name}</span>{#if isKeyed(strip)}<i title="A detector here listens to a key"
        >&#9666;</i
      >{/if}{#if keyOf.length}<i title="Key of {keyOf.join(', ')}">&#9656;</i>{/if}</span
  >
{/if}

<style>
  .fold {
    width: 0.875rem;
    height: 0.875rem;
    margin-right: 4px;
    padding: 0;
    line-height: 0.75rem;
    border: 1px solid var(--line);
    font-weight: 400;
  }
  .name {
    padding: 0;
    border: 0;
    text-align: left;
    white-space: nowrap;
    overflow: hidden;
    text-overflow: ellipsis;
    height: 1.75rem;
    line-height: 1.75rem;
    cursor: pointer;
  }
  .bus {
    font-weight: 650;
  }
  i {
    margin-left: 4px;
    font-style: normal;
    font-weight: 400;
    color: var(--key);
  }
  .rename {
    margin-left: 12px;
    width: calc(100% - 12px);
    border: 1px solid var(--ink-soft);
    background: var(--plate);
    height: 1.375rem;
  }
  .silent {
    color: var(--ink-soft);
  }
</style>
