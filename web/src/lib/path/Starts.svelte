<script lang="ts">
  /** Starting points of a processor, and presets of one's own. */
  import type { Processor, SettingValue, Step } from '../api/client';
  import { setOf } from '../state/moves';
  import { workspace } from '../state/workspace.svelte';
  import PresetMenu from './PresetMenu.svelte';

  let { step, processor, close }: { step: Step; processor: Processor; close: () => void } = $props();

  const defaults = $derived(
    Object.fromEntries(processor.settings.map((setting) => [setting.name, setting.default])),
  );
  /** A starting point sets everything: what it does not name goes to its default. */
  const edit = (settings: Record<string, SettingValue>) =>
    setOf('step', step.id, { ...defaults, ...settings });
  const starts = $derived([
    ...processor.starts.map((start) => ({ ...start, edit: () => edit(start.settings) })),
    { name: 'Default', listen: 'Everything to its default.', edit: () => edit({}) },
  ]);
</script>

<PresetMenu
  title="Starting points"
  hint="A place to begin. A click or the arrow keys: hear one after the other, matched. Enter, a double-click or Use keeps it, Escape goes back."
  {starts}
  own="Your presets"
  none="None yet: give the present settings a name."
  kind={processor.kind}
  placeholder="Name"
  field="Name of the preset"
  file="Preset file"
  edit={(preset) => edit(preset.settings as Record<string, SettingValue>)}
  take={(made) => workspace.edit(made)}
  kept={() => step.settings}
  {close}
/>
