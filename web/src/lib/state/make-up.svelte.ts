/** The aim of equal loudness for lanes: each asked for is measured and set, one after the other, and it is said what was set. */
import { api, type Lane } from '../api/client';
import { format } from '../controls/value';
import { setOf } from './moves';
import { workspace } from './workspace.svelte';

class MakeUp {
  /** The lanes that are being measured, or wait for it. */
  waiting = $state.raw<string[]>([]);
  private last: Promise<void> = Promise.resolve();

  /** Set a lane's level so that it leaves as loud as it enters, over the passage as it is now. */
  ask(lane: Lane): Promise<void> {
    if (this.waiting.includes(lane.id)) return this.last;
    const { start_s, end_s } = workspace.listening.passage;
    const asked = { strip_id: workspace.selection.stripId, lane_id: lane.id, start_s, end_s };
    this.waiting = [...this.waiting, lane.id];
    const before = this.last;
    this.last = workspace.storing(() => before.then(() => this.measure(lane, asked)));
    return this.last;
  }

  private async measure(lane: Lane, asked: Omit<Parameters<typeof api.giveBack>[1], 'tab'>): Promise<void> {
    const id = workspace.version?.id;
    const result =
      id === undefined
        ? null
        : await workspace.attempt(() =>
            api.giveBack(id, { ...asked, tab: workspace.tab, number: workspace.measuring.nextNumber() }),
          );
    this.waiting = this.waiting.filter((other) => other !== lane.id);
    if (!result) return;
    await workspace.edit(setOf('lane', lane.id, { level_db: result.level_db }));
    const undo = workspace.history.offer();
    workspace.note(
      `${lane.name}: level ${format(result.level_db, 'dB')}, as loud as it came in.`,
      'note',
      undo,
    );
  }
}

export const makeUp = new MakeUp();
