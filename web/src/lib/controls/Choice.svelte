<script lang="ts">
  /** A setting with a few words, or a switch, as a labelled list on the rules' grid. */
  import type { Setting, SettingValue } from '../api/client';

  interface Props {
    setting: Setting;
    value: SettingValue;
    change: (value: SettingValue) => void;
    /** What it is at present where something else than the document decides, such as low latency. */
    now?: SettingValue;
    /** It is not the same in all slots. */
    differs?: boolean;
  }
  let { setting, value, change, now, differs = false }: Props = $props();
  const helpId = $props.id();
  const options = $derived(setting.type === 'switch' ? ['off', 'on'] : setting.options);
  const chosen = $derived(setting.type === 'switch' ? (value ? 'on' : 'off') : String(value));
</script>

<label class="choice" title={setting.help}>
  <span class:differs>{setting.label}</span>
  <span id={helpId} hidden>{setting.help}</span>
  <select
    aria-describedby={helpId}
    class="figure"
    data-setting={setting.name}
    value={chosen}
    onchange={(event) =>
      change(setting.type === 'switch' ? event.currentTarget.value === 'on' : event.currentTarget.value)}
  >
    {#each options as option (option)}<option value={option}>{setting.words[option] ?? option}</option>{/each}
  </select>
  {#if now !== undefined}<span class="now soft" data-now={setting.name} title="Set by low latency"
      >now {setting.words[String(now)] ?? String(now)}</span
    >{/if}
</label>

<style>
  .choice {
    display: grid;
    grid-template-columns: 1fr auto;
    align-items: baseline;
    height: 2.0625rem;
  }
  span {
    white-space: nowrap;
    overflow: hidden;
    text-overflow: ellipsis;
  }
  .now {
    grid-column: 1 / -1;
    margin-top: -5px;
    font-size: 0.6875rem;
    line-height: 0.75rem;
    text-align: right;
  }
  select {
    appearance: none;
    background: none;
    border: 0;
    border-bottom: 1px solid var(--ink-soft);
    border-radius: 0;
    height: 1.5rem;
    padding: 0 0 0 8px;
    text-align: right;
    text-align-last: right;
    field-sizing: content;
    cursor: pointer;
  }
  option {
    background: var(--plate);
    color: var(--ink);
  }
</style>
