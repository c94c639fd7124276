/** Ask for a figure of what is chosen, and have the setting found that reaches it on the passage. */
import { api, type Aim, type Setting } from '../api/client';
import { Asking } from './asking.svelte';
import { slotScope } from './slots.svelte';
import { workspace } from './workspace.svelte';

class Aiming {
  readonly asking = new Asking(workspace, 'aim');
  /** Why the target was not reached. */
  refused = $state('');
  /** A figure as it is before anything is searched. */
  now = $state.raw<{ figure: string; value: number | null } | null>(null);

  readonly scope = $derived(slotScope(workspace));
  /** What can be asked of it. */
  readonly aims: Aim[] = $derived.by(() => {
    const { scope } = this;
    if (!scope) return [];
    if (scope.of !== 'step') return workspace.described.aims[scope.of] ?? [];
    return (workspace.described.processor(workspace.selection.step?.kind ?? '')?.aims ?? []).filter(
      (aim) => this.settingsOf(aim).length,
    );
  });

  /** The settings that reach a figure, as far as they have a say. */
  settingsOf(aim: Aim): Setting[] {
    const { scope } = this;
    if (!scope) return [];
    if (scope.of !== 'step')
      return aim.settings.map((name) => workspace.described.setting(scope.of as 'strip' | 'lane', name));
    const { step } = workspace.selection;
    const all = workspace.described.processor(step?.kind ?? '')?.settings ?? [];
    return aim.settings.flatMap((name) =>
      all.filter(
        (setting) =>
          setting.name === name &&
          Object.entries(setting.when).every(([other, values]) =>
            values.includes(String(step?.settings[other])),
          ),
      ),
    );
  }

  private question({ of, id }: NonNullable<Aiming['scope']>) {
    const { start_s, end_s } = workspace.listening.passage;
    return { tab: workspace.tab, number: workspace.measuring.nextNumber(), of, id, start_s, end_s };
  }

  /** Measure what a figure is as things stand; a setting that reaches it belongs to the question. */
  async look(aim: Aim, setting: string): Promise<void> {
    const { scope } = this;
    const id = workspace.version?.id;
    this.now = null;
    if (!scope || id === undefined) return;
    const question = { ...this.question(scope), figure: aim.name, setting, target: aim.target };
    const answer = await workspace.attempt(() => api.presentFigure(id, question), true);
    // Null for one that a newer question overtook.
    if (answer) this.now = { figure: aim.name, value: answer.value };
  }

  /** Resolves with whether the target is reached; then the setting is moved, as one edit. */
  async find(figure: string, target: number, setting: string): Promise<boolean> {
    const { scope } = this;
    if (!scope) return false;
    this.refused = '';
    const question = { ...this.question(scope), figure, setting, target };
    const answer = await this.asking.answer((id, signal) => api.studyAim(id, question, signal));
    if (!answer) return false;
    const { reached, text, value } = answer.answer;
    if (!reached) {
      this.refused = text;
      return false;
    }
    const address = { of: scope.of, id: scope.id, name: answer.answer.setting };
    const { by } = answer.answer;
    // An envelope is moved as a whole.
    await workspace.edit(
      by == null ? { op: 'set', values: [{ ...address, value }] } : { op: 'shift_envelope', ...address, by },
    );
    workspace.note(text, 'note', workspace.history.offer(), 'aim');
    return true;
  }
}

export const aiming = new Aiming();
