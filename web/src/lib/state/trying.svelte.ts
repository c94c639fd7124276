/** An edit that sounds but is not made: a starting point under the cursor, at the loudness of what is there. */
import { api, type Edit } from '../api/client';
import { Rest } from './rest';
import { together } from './together';
import { workspace } from './workspace.svelte';

/** Measuring waits until the cursor has rested for so long. */
const REST_MS = 120;

class Trying {
  /** What is being tried, by name; null if nothing is. */
  name = $state<string | null>(null);
  /** By how much it would be louder; null while that is being measured. */
  louder_db = $state<number | null>(null);
  private readonly rest = new Rest();
  private latest = 0;

  /** Hear an edit of the chosen strip. measure: whether it is what will be kept, and not about to be refined. */
  hear(name: string, edit: Edit, measure = true): void {
    const strip_id = workspace.selection.stripId;
    this.name = name;
    this.louder_db = null;
    workspace.listening.send({ type: 'try', edit: together(workspace.selection, edit) });
    const number = (this.latest += 1);
    if (measure) this.rest.after(REST_MS, () => this.measure(strip_id, edit, number));
    else this.rest.stop();
  }

  /** What is tried is about to be kept: nothing is measured of it any more. */
  settle(): void {
    this.rest.stop();
    this.latest += 1;
  }

  /** Hear what is stored again. */
  end(): void {
    if (this.name === null) return;
    this.settle();
    this.name = this.louder_db = null;
    workspace.listening.send({ type: 'try', edit: null });
    workspace.listening.send({ type: 'order', strip_id: workspace.selection.stripId, gain_db: 0 });
  }

  private async measure(strip_id: string, edit: Edit, number: number): Promise<void> {
    const { version } = workspace;
    if (!version) return;
    const { start_s, end_s } = workspace.listening.passage;
    const question = {
      tab: workspace.tab,
      number: workspace.measuring.nextNumber(),
      start_s,
      end_s,
      strip_id,
      edit,
    };
    const answer = await workspace.attempt(async () => {
      try {
        return await api.studyOrder(version.id, question);
      } catch (error) {
        if (number !== this.latest) return null; // kept meanwhile: it cannot be made twice
        throw error;
      }
    }, true);
    if (!answer || number !== this.latest) return;
    this.louder_db = answer.louder_db;
    workspace.listening.send({ type: 'order', strip_id, gain_db: -answer.louder_db });
  }
}

export const trying = new Trying();
