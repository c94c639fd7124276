/** Ask for a figure of what is chosen, and have the setting found that reaches it on the passage. */
import { api, type Aim, type Setting } from '../api/client';
import { slotScope } from './slots.svelte';
import { workspace } from './workspace.svelte';

const PROGRESS_MS = 150;

class Aiming {
  /** How much of the search is done; null while none is under way. */
  share = $state<number | null>(null);
  /** Why the target was not reached. */
  refused = $state('');
  private request: AbortController | null = null;

  readonly scope = $derived(slotScope(workspace));
  /** What can be asked of it. */
  readonly aims: Aim[] = $derived.by(() => {
    const { scope } = this;
    if (!scope) return [];
    if (scope.of !== 'step') return workspace.aims[scope.of] ?? [];
    return (workspace.processor(workspace.selection.step?.kind ?? '')?.aims ?? []).filter(
      (aim) => this.settingsOf(aim).length,
    );
  });

  /** The settings that reach a figure, as far as they have a say. */
  settingsOf(aim: Aim): Setting[] {
    const { scope } = this;
    if (!scope) return [];
    if (scope.of !== 'step')
      return aim.settings.map((name) => workspace.setting(scope.of as 'strip' | 'lane', name));
    const { step } = workspace.selection;
    const all = workspace.processor(step?.kind ?? '')?.settings ?? [];
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

  /** Resolves with whether the target is reached; then the setting is moved, as one edit. */
  async find(figure: string, target: number, setting: string): Promise<boolean> {
    const { scope } = this;
    const id = workspace.version?.id;
    if (!scope || id === undefined) return false;
    this.refused = '';
    this.share = 0;
    const request = (this.request = new AbortController());
    const polling = window.setInterval(() => {
      void api.progress(id, workspace.tab, 'aim').then(
        ({ share }) => {
          if (this.request === request && share < 1) this.share = share;
        },
        () => undefined,
      );
    }, PROGRESS_MS);
    const { start_s, end_s } = workspace.listening.passage;
    const answer = await workspace.attempt(async () => {
      try {
        return await api.studyAim(
          id,
          {
            tab: workspace.tab,
            number: workspace.measuring.nextNumber(),
            of: scope.of,
            id: scope.id,
            figure,
            setting,
            target,
            start_s,
            end_s,
          },
          request.signal,
        );
      } catch (error) {
        if (error instanceof DOMException) return null; // cancelled
        throw error;
      }
    });
    clearInterval(polling);
    if (this.request !== request) return false;
    this.request = null;
    this.share = null;
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
    workspace.note(text, 'note', { label: 'Undo', run: () => void workspace.undo() }, 'aim');
    return true;
  }

  cancel(): void {
    this.request?.abort();
    this.request = null;
    this.share = null;
  }
}

export const aiming = new Aiming();
