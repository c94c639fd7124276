<script lang="ts">
  /** The points of a free curve as numbers: typed, added, taken out, read from and written to files. */
  import { api, type Setting, type SettingValue } from '../api/client';
  import { saveText } from '../state/save';
  import { workspace } from '../state/workspace.svelte';

  interface Props {
    setting: Setting;
    value: [number, number][];
    change: (value: SettingValue) => void;
  }
  let { setting, value, change }: Props = $props();
  let picker = $state<HTMLInputElement | null>(null);

  function type(at: number, side: 0 | 1, text: string): void {
    const number = Number(text.replace(',', '.'));
    if (!text.trim() || Number.isNaN(number)) return;
    const next = value.map((point) => [...point] as [number, number]);
    next[at]![side] = number;
    change(next.sort((a, b) => a[0] - b[0]));
  }
  function add(): void {
    const [a, b] = [value.at(-2)!, value.at(-1)!];
    change([...value.slice(0, -1), [(a[0] + b[0]) / 2, (a[1] + b[1]) / 2], b]);
  }
  async function read(file: File): Promise<void> {
    await workspace.attempt(async () => change((await api.readCurve(await file.text())).points));
  }
</script>

<div class="points" title={setting.help} data-setting={setting.name}>
  <div class="head"><span>{setting.label}</span><span class="soft">in, out dB</span></div>
  {#each value as point, at (at)}
    <div class="point figure">
      <input
        aria-label="Input of point {at + 1}"
        value={point[0].toFixed(1)}
        onkeydown={(event) => event.stopPropagation()}
        onchange={(event) => type(at, 0, event.currentTarget.value)}
      />
      <input
        aria-label="Output of point {at + 1}"
        value={point[1].toFixed(1)}
        onkeydown={(event) => event.stopPropagation()}
        onchange={(event) => type(at, 1, event.currentTarget.value)}
      />
      <button
        aria-label="Take out point {at + 1}"
        disabled={value.length < 3}
        onclick={() => change(value.filter((_, i) => i !== at))}>x</button
      >
    </div>
  {/each}
  <div class="acts">
    <button class="button" disabled={value.length > 15} onclick={add}>Add</button>
    <button
      class="button"
      onclick={() => workspace.attempt(async () => saveText((await api.writeCurve(value)).text, 'curve.csv'))}
      >Export CSV</button
    >
    <button class="button" onclick={() => saveText(JSON.stringify(value), 'curve.json')}>Export JSON</button>
    <button class="button" onclick={() => picker?.click()}>Import</button>
    <input
      type="file"
      accept=".csv,.json,text/csv,application/json"
      hidden
      aria-label="Curve file"
      bind:this={picker}
      onchange={(event) => {
        const file = event.currentTarget.files?.[0];
        if (file) void read(file);
        event.currentTarget.value = '';
      }}
    />
  </div>
</div>

<style>
  .points {
    padding: 4px 0;
  }
  .head,
  .acts {
    display: flex;
    gap: 4px;
    justify-content: space-between;
  }
  .acts {
    margin-top: 4px;
    justify-content: flex-start;
    flex-wrap: wrap;
  }
  .acts button {
    height: 1.25rem;
    line-height: 1.125rem;
    padding: 0 6px;
    font-size: 0.75rem;
  }
  .point {
    display: grid;
    grid-template-columns: 1fr 1fr 1.25rem;
    gap: 4px;
  }
  input {
    min-width: 0;
    height: 1.25rem;
    text-align: right;
    background: none;
    border: 0;
    border-bottom: 1px solid var(--line);
  }
  .point button {
    padding: 0;
    border: 0;
    color: var(--ink-soft);
  }
</style>
