/** The resonances of a tamer: studied on the passage, and edited. */
import { api, type Resonance, type Setting, type Step } from '../api/client';
import { Asking } from './asking.svelte';
import { workspace } from './workspace.svelte';

const ADDED: Pick<Resonance, 'width_oct' | 'height_db'> = { width_oct: 0.2, height_db: 6 };

class Tamer {
  readonly asking = new Asking(workspace, 'resonances');

  readonly step: Step | null = $derived(
    workspace.selection.step?.kind === 'tamer' ? workspace.selection.step : null,
  );
  readonly resonances: Resonance[] = $derived((this.step?.settings['resonances'] ?? []) as Resonance[]);
  /** What is described of them: how many there can be, and where. */
  readonly setting: Setting | undefined = $derived(
    workspace.described.processor('tamer')?.settings.find((one) => one.name === 'resonances'),
  );
  readonly full: boolean = $derived(this.resonances.length >= (this.setting?.most ?? Infinity));
  readonly free = $derived(this.step?.settings['mode'] === 'free');

  /** Study the passage; the findings become the step's, as one edit. */
  async study(): Promise<void> {
    const { step } = this;
    if (!step) return;
    const { start_s, end_s, name } = workspace.listening.passage;
    const answer = await this.asking.answer((id, signal) =>
      api.studyResonances(
        id,
        {
          tab: workspace.tab,
          number: workspace.measuring.nextNumber(),
          step_id: step.id,
          passage: name || 'Passage',
          start_s,
          end_s,
        },
        signal,
      ),
    );
    if (!answer) return;
    const { resonances, studied, verdict } = answer;
    workspace.set(step.id, { resonances, studied, mode: 'found' });
    workspace.note(verdict, 'note', workspace.history.offer(), 'study');
  }

  /** Other resonances for the step; they stay in the order they have, so that their numbers do. */
  put(resonances: Resonance[], gesture: string | null = null): void {
    if (this.step) workspace.set(this.step.id, { resonances }, gesture);
  }

  change(at: number, change: Partial<Resonance>, gesture: string | null = null): void {
    this.put(
      this.resonances.map((one, n) => (n === at ? { ...one, ...change } : one)),
      gesture,
    );
  }

  add(frequency_hz: number): void {
    if (this.full) return;
    const added = { frequency_hz, ...ADDED, time_share: 0, share: 1, on: true, by_hand: true, certainty: 1 };
    this.put([...this.resonances, added]);
  }

  remove(at: number): void {
    this.put(this.resonances.filter((_, n) => n !== at));
  }
}

export const tamer = new Tamer();
