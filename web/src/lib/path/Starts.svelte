<script lang="ts">
  /** Starting points of a processor, and presets of one's own. */
  import type { Processor, SettingValue, Step } from '../api/client';
  import { workspace } from '../state/workspace.svelte';
  import PresetMenu from './PresetMenu.svelte';

  let { step, processor, close }: { step: Step; processor: Processor; close: () => void } = $props();

  const defaults = $derived(
    Object.fromEntries(processor.settings.map((setting) => [setting.name, setting.default])),
  );
  /** A starting point sets everything: what it does not name goes to its default. */
  const take = (settings: Record<string, SettingValue>) =>
    workspace.set(step.id, { ...defaults, ...settings });
  const starts = $derived([
    ...processor.starts.map((start) => ({ ...start, take: () => take(start.settings) })),
    { name: 'as it came', listen: 'Everything to its default.', take: () => take({}) },
  ]);
</script>

<PresetMenu
  title="Starting points"
  hint="A place to begin: press one, listen for what it says, then move the rules."
  {starts}
  own="Your presets"
  none="None yet: give the present settings a name."
  kind={processor.kind}
  placeholder="Name"
  field="Name of the preset"
  file="Preset file"
  take={(preset) => take(preset.settings as Record<string, SettingValue>)}
  kept={() => step.settings}
  {close}
/>
