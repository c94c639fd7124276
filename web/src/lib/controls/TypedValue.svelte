<script lang="ts">
  /** The number beside a scale; pressed, it is a field to type one. What cannot be taken says why and waits. */
  import type { Setting } from '../api/client';
  import { parseSetting } from './value';

  interface Props {
    /** What is being typed; null while nothing is. */
    typing: string | null;
    setting: Setting;
    name: string;
    shown: string;
    bare?: boolean;
    take: (value: number) => void;
    /** The field is gone. */
    done: () => void;
  }
  let { typing = $bindable(), setting, name, shown, bare = false, take, done }: Props = $props();
  /** Why what was typed was not taken. */
  let wrong = $state<string | null>(null);
  const id = $props.id();

  function typed(keep: boolean): void {
    if (typing === null) return;
    if (keep && typing.trim()) {
      const read = parseSetting(typing, setting);
      if ('refused' in read) {
        wrong = read.refused;
        return;
      }
      take(read.value);
    }
    typing = null;
    wrong = null;
    done();
  }

  const focused = (field: HTMLInputElement) => {
    field.focus();
    field.setSelectionRange(field.value.length, field.value.length);
  };
</script>

{#if typing === null}
  <button
    class="figure value"
    class:bare
    tabindex="-1"
    aria-label={`${name}: ${shown}; type a value`}
    onclick={() => (typing = '')}>{shown}</button
  >
{:else}
  <input
    class="figure typing"
    class:bare
    class:wrong
    aria-label={`${name}, typed`}
    aria-invalid={wrong !== null}
    aria-describedby={wrong ? `${id}-wrong` : undefined}
    placeholder={shown}
    bind:value={typing}
    {@attach focused}
    onkeydown={(event) => {
      event.stopPropagation();
      if (event.key === 'Enter') typed(true);
      if (event.key === 'Escape') typed(false);
    }}
    onblur={() => typed(wrong === null)}
  />
  {#if wrong}<span class="refused" id="{id}-wrong" role="alert">{wrong}</span>{/if}
{/if}

<style>
  .value {
    padding: 0;
    border: 0;
    height: 1.25rem;
    cursor: text;
    white-space: nowrap;
  }
  .typing {
    width: 84px;
    height: 1.125rem;
    text-align: right;
    background: var(--plate);
    border: 1px solid var(--ink-soft);
    padding: 0 2px;
  }
  .refused {
    position: absolute;
    right: 0;
    top: 100%;
    z-index: 3;
    padding: 0 6px;
    font-size: 0.75rem;
    white-space: nowrap;
    color: var(--taken);
    background: var(--plate);
    border: 1px solid var(--taken);
  }
  .wrong {
    border-color: var(--taken);
    color: var(--taken);
  }
  /* In a table: beside the scale. */
  .bare {
    grid-column: 2;
    grid-row: 1;
    width: 100%;
    text-align: right;
    font-size: 0.6875rem;
  }
</style>
