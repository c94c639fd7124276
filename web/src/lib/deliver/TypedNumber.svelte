<script lang="ts">
  /** A number that is typed, with its unit; what is refused is said beside it, and the number stays as it was. */
  interface Props {
    label: string;
    unit: string;
    value: number;
    low: number;
    high: number;
    change: (value: number) => void;
  }
  let { label, unit, value, low, high, change }: Props = $props();
  let wrong = $state<string | null>(null);

  function typed(field: HTMLInputElement): void {
    const given = Number(field.value.trim().replace(',', '.'));
    wrong = field.value.trim() && given >= low && given <= high ? null : `From ${low} to ${high} ${unit}.`;
    if (!wrong) change(given);
    field.value = String(value);
  }
</script>

<input
  class="figure"
  inputmode="decimal"
  aria-label="{label}, {unit}"
  {value}
  onchange={(event) => typed(event.currentTarget)}
/>
{unit}
{#if wrong}<span class="wrong" role="status">{wrong}</span>{/if}

<style>
  input {
    width: 64px;
    height: 1.625rem;
    background: var(--plate);
    border: 1px solid var(--edge);
    padding: 0 6px;
  }
  .wrong {
    color: var(--taken);
  }
</style>
