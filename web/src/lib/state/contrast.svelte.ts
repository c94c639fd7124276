/** The contrast of what is chosen over the whole song, and of several strips; and what is said of the main's. */
import { api, type ContrastAnswer, type ContrastScope } from '../api/client';
import { chosenStrips } from './strips';
import { workspace } from './workspace.svelte';

/** It takes the whole song: it waits until an edit has settled; for a hint alone, until the hands rest, and long while it
 * plays. */
const REST_MS = 600;
const HINT_REST_MS = 3000;
const HINT_REST_PLAYING_MS = 20_000;
const PROGRESS_MS = 250;
const MAIN: ContrastScope = { strip_id: 'main', step_id: null, lane_id: null };
/** Strips in one table at most. */
const MAX_STRIPS = 31;

class ContrastState {
  /** Whether several strips stand in the table, or the chosen scope alone. */
  several = $state(false);
  private measured = $state.raw<{ session: number; answer: ContrastAnswer } | null>(null);
  stale = $state(false);
  /** How much of an answer on its way is there; null if none is. */
  share = $state<number | null>(null);

  private timer = 0;
  private polling = 0;
  private latest = 0;
  private request: AbortController | null = null;

  /** Of the session that is open. */
  readonly answer = $derived(
    this.measured && this.measured.session === workspace.version?.id ? this.measured.answer : null,
  );
  /** What was measured of the scope that is looked at, which comes first. */
  readonly contrast = $derived(this.answer?.rows[0]?.contrast ?? null);
  /** What is said of the main. */
  readonly hints = $derived(
    this.answer?.rows.find(({ scope }) => scope.strip_id === 'main' && !scope.step_id && !scope.lane_id)
      ?.contrast.hints ?? [],
  );

  /** The chosen scope, and where several are shown the strips chosen together, or else the main and its buses. */
  scopes(): ContrastScope[] {
    const first = workspace.selection.scope;
    if (!this.several) return [first];
    const together = chosenStrips(workspace);
    const strips =
      together.length > 1
        ? together
        : (workspace.session?.strips ?? []).filter(
            (strip) => strip.kind !== 'track' || strip === together[0],
          );
    const rest = strips.filter((strip) => strip.id !== first.strip_id || first.step_id || first.lane_id);
    return [
      first,
      ...rest.slice(0, MAX_STRIPS).map((strip) => ({ strip_id: strip.id, step_id: null, lane_id: null })),
    ];
  }

  /** Measure what the view shows once whatever moves rests; or only the main, for its hint. */
  soon(mainOnly = false): void {
    this.stale = true;
    clearTimeout(this.timer);
    const hint_ms = workspace.listening.playing ? HINT_REST_PLAYING_MS : HINT_REST_MS;
    this.timer = window.setTimeout(
      () => void this.run(mainOnly ? [MAIN] : this.scopes()),
      mainOnly ? hint_ms : REST_MS,
    );
  }

  question(scopes: ContrastScope[] = this.scopes()) {
    return { tab: workspace.tab, number: workspace.measuring.nextNumber(), scopes };
  }

  private async run(scopes: ContrastScope[]): Promise<void> {
    const id = workspace.version?.id;
    if (id === undefined) return;
    const mine = (this.latest += 1);
    this.request?.abort();
    const request = (this.request = new AbortController());
    this.share = 0;
    clearInterval(this.polling);
    this.polling = window.setInterval(() => {
      void api.progress(id, workspace.tab, 'contrast').then(
        ({ share }) => {
          if (mine === this.latest && this.share !== null) this.share = share;
        },
        () => undefined,
      );
    }, PROGRESS_MS);
    const answer = await workspace.attempt(async () => {
      try {
        return await api.studyContrast(id, this.question(scopes), request.signal);
      } catch (error) {
        if (error instanceof DOMException) return null; // cancelled
        throw error;
      }
    }, true);
    if (mine !== this.latest) return;
    clearInterval(this.polling);
    this.share = null;
    if (!answer) return;
    this.measured = { session: id, answer };
    this.stale = false;
  }

  /** Nobody looks any more. */
  stop(): void {
    clearTimeout(this.timer);
    clearInterval(this.polling);
    this.latest += 1;
    this.request?.abort();
    this.share = null;
  }
}

export const contrast = new ContrastState();
