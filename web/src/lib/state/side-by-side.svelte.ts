/** What the chosen strips did to the passage, one after the other: each with its whole path. */
import { api } from '../api/client';
import { Rest } from './rest';
import { chosenStrips } from './strips';
import { workspace } from './workspace.svelte';

type Ledger = NonNullable<Awaited<ReturnType<typeof api.studyScope>>>['ledger'];

/** After the ledger itself, which is asked for first. */
const REST_MS = 500;
/** The least that a picture is drawn of; none is shown. */
const COLUMNS = 64;

class SideBySide {
  ledgers = $state.raw<Record<string, Ledger>>({});
  /** Whether some of them are of an older version. */
  stale = $state(false);
  private readonly rest = new Rest();
  private latest = 0;

  /** Measure the chosen strips once hands rest. Figures that are there stay until theirs come. */
  soon(): void {
    const number = (this.latest += 1);
    this.stale = true;
    this.rest.after(REST_MS, () => this.measure(number));
  }

  stop(): void {
    this.latest += 1;
    this.rest.stop();
    this.ledgers = {};
  }

  private async measure(number: number): Promise<void> {
    const { version } = workspace;
    if (!version) return;
    const { start_s, end_s } = workspace.listening.passage;
    for (const strip of chosenStrips(workspace)) {
      const question = {
        // Not superseded by what is asked for the ledger.
        tab: `${workspace.tab} strips`,
        number: workspace.measuring.nextNumber(),
        strip_id: strip.id,
        step_id: null,
        lane_id: null,
        start_s,
        end_s,
        columns: COLUMNS,
        zoom_start: 0,
        zoom_end: 1,
      };
      const answer = await workspace.attempt(() => api.studyScope(version.id, question), true);
      if (number !== this.latest) return;
      if (answer) this.ledgers = { ...this.ledgers, [strip.id]: answer.ledger };
    }
    this.stale = false;
  }
}

export const sideBySide = new SideBySide();
