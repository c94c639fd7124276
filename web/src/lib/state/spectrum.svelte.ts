/** The spectrum of the scope, asked for only while its picture is shown. */
import { api, type Spectrum } from '../api/client';
import { workspace } from './workspace.svelte';

export type Fraction = 3 | 6 | 12 | 24;

class SpectrumState {
  fraction = $state<Fraction>(6);
  moving = $state(false);
  private last = $state.raw<{ of: string; start_s: number; spectrum: Spectrum } | null>(null);
  /** Nothing until the chosen scope's own has come: another scope's would be wrong evidence. */
  readonly result = $derived(this.last?.of === JSON.stringify(workspace.selection.scope) ? this.last : null);
  /** Whether it is being worked out. */
  busy = $state(false);
  private latest = 0;

  /** Ask again; called when a new study of the scope has come in. */
  async ask(): Promise<void> {
    const version = workspace.version;
    if (!version) return;
    const number = (this.latest += 1);
    this.busy = true;
    const { start_s, end_s } = workspace.listening.passage;
    await workspace.attempt(async () => {
      const of = JSON.stringify(workspace.selection.scope);
      const answer = await api.studySpectrum(version.id, {
        tab: workspace.tab,
        number: workspace.measuring.nextNumber(),
        ...workspace.selection.scope,
        start_s,
        end_s,
        fraction: this.fraction,
        moving: this.moving,
      });
      if (answer && number === this.latest) this.last = { of, ...answer };
    });
    if (number === this.latest) this.busy = false;
  }
}

export const spectrumState = new SpectrumState();
