<script lang="ts">
  /** Starting points of a processor, and presets of one's own. */
  import { api, type Processor, type Setting, type SettingValue, type Step } from '../api/client';
  import { Asking } from '../state/asking.svelte';
  import { sameOf } from '../state/moves';
  import { workspace } from '../state/workspace.svelte';
  import PresetMenu from './PresetMenu.svelte';

  let { step, processor, close }: { step: Step; processor: Processor; close: () => void } = $props();

  const defaultsOf = (settings: Setting[]) =>
    Object.fromEntries(settings.map((setting) => [setting.name, setting.default]));
  /** A starting point sets what it does not name to its default, and leaves what an analysis of the sound gave. */
  const defaults = $derived(defaultsOf(processor.settings.filter((setting) => !setting.analysed)));
  const edit = (settings: Record<string, SettingValue>) =>
    sameOf('step', step.id, { ...defaults, ...settings });
  const starts = $derived([
    ...processor.starts.map((start) => ({
      ...start,
      edit: () => edit(start.settings),
      find: start.aims.length ? () => found(start.name) : undefined,
    })),
    {
      name: 'Default',
      listen: 'Everything to its default.',
      aims: [],
      edit: () => edit(defaultsOf(processor.settings)),
    },
  ]);

  const asking = new Asking(workspace, 'start');
  /** What a starting point sets by a figure of the passage; null if it was called off. */
  async function found(start: string) {
    const { start_s, end_s } = workspace.listening.passage;
    const question = { tab: workspace.tab, number: workspace.measuring.nextNumber(), start_s, end_s };
    const answer = await asking.answer(
      (id, signal) => api.studyStart(id, { ...question, step_id: step.id, start }, signal),
      true,
    );
    return answer && { edit: edit(answer.answer.settings), text: answer.answer.text };
  }
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
  close={() => (asking.cancel(), close())}
/>
