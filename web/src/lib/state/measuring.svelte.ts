/** What was measured of the scope over the passage: ledger and pictures, and the strip's overview. */
import type { OverviewAnswer, ScopeAnswer } from '../api/client';

/** Measuring waits until nothing has been edited for so long: it does not begin anew for every step of a drag. */
export const SETTLE_MS = 150;
/** The overview takes the whole song: it waits longer. */
export const OVERVIEW_SETTLE_MS = 600;

/** How the server is asked; each resolves with null if the answer is not wanted any more. */
export interface Questions {
  study(): Promise<ScopeAnswer | null>;
  overview(): Promise<OverviewAnswer | null>;
}

export class Measuring {
  study = $state.raw<ScopeAnswer | null>(null);
  overview = $state.raw<OverviewAnswer | null>(null);
  /** Whether what is shown is of an older version of the session than the one that is heard. */
  stale = $state(false);
  overviewStale = $state(false);
  /** Whether the overview's picture is shown: otherwise it is not asked for. */
  showsOverview = false;
  private timer: ReturnType<typeof setTimeout> | undefined;
  private editedAt = -Infinity;
  private asked = 0;

  constructor(private readonly questions: Questions) {}

  /** Something was edited: what is shown is out of date from now on, and is measured once it has settled. */
  edited(): void {
    this.stale = this.overviewStale = true;
    this.editedAt = performance.now();
    clearTimeout(this.timer);
    this.timer = setTimeout(() => void this.ask(), SETTLE_MS);
  }

  /** Something else is looked at: ask at once. nearer: the same, drawn from nearer or wider, so that the figures hold. */
  looked(nearer = false): void {
    if (!nearer) this.stale = this.overviewStale = true;
    clearTimeout(this.timer);
    void this.ask();
  }

  /** Forget what is shown, since it is of something else. */
  clear(overviewToo: boolean): void {
    this.study = null;
    if (overviewToo) this.overview = null;
  }

  close(): void {
    clearTimeout(this.timer);
    this.asked += 1;
    this.clear(true);
    this.stale = this.overviewStale = false;
  }

  private async ask(): Promise<void> {
    const number = (this.asked += 1);
    const study = await this.questions.study();
    if (number !== this.asked || !study) return;
    this.study = study;
    this.stale = false;
    const settled = this.editedAt + OVERVIEW_SETTLE_MS - performance.now();
    clearTimeout(this.timer);
    if (settled > 0) this.timer = setTimeout(() => void this.askOverview(number), settled);
    else await this.askOverview(number);
  }

  private async askOverview(number: number): Promise<void> {
    if (!this.showsOverview) return;
    const overview = await this.questions.overview();
    if (number !== this.asked || !overview) return;
    this.overview = overview;
    this.overviewStale = false;
  }
}
