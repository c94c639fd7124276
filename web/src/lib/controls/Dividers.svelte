<script lang="ts">
  /** The dividers of bands, to be typed, added and taken out. */
  import { workspace } from '../state/workspace.svelte';
  import { format, parse } from './value';

  interface Props {
    value: number[];
    change: (value: number[]) => void;
    add: (hz: number) => void;
    remove: (index: number) => void;
  }
  let { value, change, add, remove }: Props = $props();

  /** In the middle of the widest band. */
  function middle(): number {
    const edges = [20, ...value, 20000];
    const spans = edges.slice(1).map((high, i) => [Math.log(high / edges[i]!), i] as const);
    const widest = spans.reduce((a, b) => (b[0] > a[0] ? b : a))[1];
    return Math.round(Math.sqrt(edges[widest]! * edges[widest + 1]!));
  }
  function typed(field: HTMLInputElement, index: number): void {
    const read = parse(field.value, 'Hz');
    if ('value' in read) change(value.map((old, i) => (i === index ? read.value : old)));
    else workspace.note(`Divider ${index + 1}: ${read.refused}`, 'error');
    field.value = format(value[index]!, 'Hz');
  }
</script>

<div class="dividers">
  <span>Dividers</span>
  {#each value as hz, index (index)}
    <span class="one">
      <input
        class="figure"
        aria-label="Divider {index + 1}, typed"
        value={format(hz, 'Hz')}
        onfocus={(event) => event.currentTarget.select()}
        onkeydown={(event) => {
          event.stopPropagation();
          if (event.key === 'Enter') typed(event.currentTarget, index);
        }}
        onblur={(event) => (event.currentTarget.value = format(hz, 'Hz'))}
      />
      <button
        class="button"
        aria-label="Remove divider {index + 1}"
        disabled={value.length === 1}
        onclick={() => remove(index)}>x</button
      >
    </span>
  {/each}
  <button class="button add" disabled={value.length >= 5} onclick={() => add(middle())}>Add a divider</button>
</div>

<style>
  .dividers {
    display: grid;
    gap: 3px;
    padding: 4px 0;
  }
  .one {
    display: grid;
    grid-template-columns: 1fr 1.25rem;
    gap: 4px;
  }
  input {
    min-width: 0;
    height: 1.25rem;
    border: 1px solid var(--line);
    background: var(--plate);
    padding: 0 4px;
    text-align: right;
  }
  button {
    height: 1.25rem;
    line-height: 1.0625rem;
    padding: 0;
  }
</style>
