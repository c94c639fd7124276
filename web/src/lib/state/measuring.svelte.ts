/** What was measured of the scope over the passage: ledger and pictures, and the strip's overview. */
import type { OverviewAnswer, ScopeAnswer } from '../api/client';

/** Measuring waits until nothing has been edited for so long: it does not begin anew for every step of a drag. */
export const SETTLE_MS = 150;
/** And longer after one that followed another within a second: more will come. */
export const SERIES_SETTLE_MS = 350;
const SERIES_MS = 1000;
/** The overview takes the whole song: it waits longer. */
export const OVERVIEW_SETTLE_MS = 600;

/** A question that comes back without an answer, though no newer one was asked, is asked again so often. */
const MAX_RETRIES = 5;

/** Columns of the whole session's waveform; more where only a part of it is seen. */
const OVERVIEW_COLUMNS = 1200;
const MAX_OVERVIEW_COLUMNS = 16384;
const MIN_COLUMNS = 64;
const MAX_COLUMNS = 2048;

/** How much of it is drawn, and how finely. zoom: a part of the passage, as shares of it. */
export interface Detail {
  columns: number;
  zoom: [number, number];
}
/** How the server is asked; each resolves with null if the answer is not wanted any more. */
export interface Questions {
  study(detail: Detail): Promise<ScopeAnswer | null>;
  overview(columns: number): Promise<OverviewAnswer | null>;
}

export class Measuring {
  study = $state.raw<ScopeAnswer | null>(null);
  overview = $state.raw<OverviewAnswer | null>(null);
  /** Whether what is shown is of an older version of the session than the one that sounds. */
  stale = $state(false);
  overviewStale = $state(false);
  /** Whether the overview's picture is shown: otherwise it is not asked for. */
  showsOverview = false;
  private timer: ReturnType<typeof setTimeout> | undefined;
  private editedAt = -Infinity;
  private madeAt = -Infinity;
  private settle = SETTLE_MS;
  private latest = 0;
  private detail: Detail = { columns: 800, zoom: [0, 1] };
  private overviewColumns = OVERVIEW_COLUMNS;
  private numbers = 0;

  constructor(private readonly questions: Questions) {}

  /** Something was edited: what is shown is out of date from now on, and is measured once it has settled. byHand: as the hand
   * made it, not as the server stored it. */
  edited(byHand = false): void {
    this.stale = this.overviewStale = true;
    const now = performance.now();
    if (byHand) {
      this.settle = now - this.madeAt < SERIES_MS ? SERIES_SETTLE_MS : SETTLE_MS;
      this.madeAt = now;
    }
    this.editedAt = now;
    // An answer on its way is of an older version, and must not take the place of the question that is to come.
    this.latest += 1;
    clearTimeout(this.timer);
    this.timer = setTimeout(() => void this.ask(), this.settle);
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

  get zoom(): readonly [number, number] {
    return this.detail.zoom;
  }

  /** Draw only a part of the passage, given as shares of it. */
  setZoom(from: number, to: number): void {
    this.detail = { ...this.detail, zoom: [Math.max(0, from), Math.min(1, to)] };
    this.looked(true);
  }

  /** Another passage is drawn from end to end; it is asked for by whoever changed it. */
  resetZoom(): void {
    this.detail = { ...this.detail, zoom: [0, 1] };
  }

  setColumns(columns: number): void {
    const wanted = Math.max(MIN_COLUMNS, Math.min(MAX_COLUMNS, Math.round(columns)));
    if (wanted === this.detail.columns) return;
    this.detail = { ...this.detail, columns: wanted };
    this.looked(true);
  }

  /** More columns of the waveform, where only one part in `zoom` of the session is seen. */
  setOverviewColumns(zoom: number): void {
    const wanted = Math.min(
      MAX_OVERVIEW_COLUMNS,
      OVERVIEW_COLUMNS * 2 ** Math.ceil(Math.log2(Math.max(1, zoom))),
    );
    if (wanted === this.overviewColumns) return;
    this.overviewColumns = wanted;
    this.looked(true);
  }

  /** Questions are numbered, as they may reach the server in another order than they were asked in. */
  nextNumber(): number {
    return (this.numbers += 1);
  }

  close(): void {
    this.overviewColumns = OVERVIEW_COLUMNS;
    clearTimeout(this.timer);
    this.latest += 1;
    this.clear(true);
    this.stale = this.overviewStale = false;
  }

  private async ask(retries = 0): Promise<void> {
    const number = (this.latest += 1);
    const study = await this.questions.study(this.detail);
    if (number !== this.latest) return;
    clearTimeout(this.timer);
    if (!study) {
      // What is shown would stay out of date until the next edit.
      if (retries < MAX_RETRIES)
        this.timer = setTimeout(() => void this.ask(retries + 1), SETTLE_MS * 2 ** retries);
      return;
    }
    this.study = study;
    this.stale = false;
    const settled = this.editedAt + OVERVIEW_SETTLE_MS - performance.now();
    if (settled > 0) this.timer = setTimeout(() => void this.askOverview(number), settled);
    else await this.askOverview(number);
  }

  private async askOverview(number: number): Promise<void> {
    if (!this.showsOverview) return;
    const overview = await this.questions.overview(this.overviewColumns);
    if (number !== this.latest || !overview) return;
    this.overview = overview;
    this.overviewStale = false;
  }
}
