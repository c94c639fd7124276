/** What each lane of the chosen split did, asked for only while a split is chosen. */
import { api, type Bands, type Lane, type LaneFigures, type Step } from '../api/client';
import { everyStep } from '../path/tree';
import { workspace } from './workspace.svelte';

class BandsState {
  result = $state.raw<{ step_id: string; bands: Bands } | null>(null);
  /** Whether it is being worked out. */
  busy = $state(false);
  private latest = 0;

  async ask(): Promise<void> {
    const { version } = workspace;
    const { step } = workspace.selection;
    const { passage } = workspace.listening;
    if (!version || !step?.lanes) return;
    const number = (this.latest += 1);
    this.busy = true;
    await workspace.attempt(async () => {
      const answer = await api.studyBands(version.id, {
        tab: workspace.tab,
        number: workspace.measuring.nextNumber(),
        strip_id: workspace.selection.stripId,
        step_id: step.id,
        start_s: passage.start_s,
        end_s: passage.end_s,
      });
      if (answer && number === this.latest) this.result = { step_id: step.id, bands: answer.bands };
    });
    if (number === this.latest) this.busy = false;
  }

  of(lane: Lane): LaneFigures | undefined {
    return this.result?.bands.lanes.find((figures) => figures.lane_id === lane.id);
  }
}

/** The step that stands for a lane: its first with a detector that works, else its first. */
export function mainStep(lane: Lane): Step | null {
  const steps = lane.path.steps.filter((step) => step.kind !== 'split');
  const listening = steps.filter((step) => !step.bypass && workspace.described.processor(step.kind)?.listens);
  return listening[0] ?? steps[0] ?? null;
}

/** The gain a lane's steps take now (negative) or, while nothing plays, the most they took over the passage; null until measured. */
export function takenDb(lane: Lane): number | null {
  const { header } = workspace.listening;
  if (workspace.listening.playing && header)
    return [...everyStep(lane.path.steps)].reduce(
      (sum, step) => sum + Math.min(0, step.bypass ? 0 : (header.steps[step.id] ?? 0)),
      0,
    );
  const figures = bandsState.of(lane);
  return figures ? -Math.max(0, figures.largest_db ?? 0) : null;
}

export const bandsState = new BandsState();
