/** The contrast of what is chosen over the whole song, and of several strips; and what is said of the main's. */
import { api, type ContrastAnswer, type ContrastScope } from '../api/client';
import { Asking } from './asking.svelte';
import { Rest } from './rest';
import { chosenStrips } from './strips';
import { workspace } from './workspace.svelte';

/** It takes the whole song: it waits until an edit has settled; for a hint alone, until the hands rest, and long while it
 * plays. */
const REST_MS = 600;
const HINT_REST_MS = 8000;
const HINT_REST_PLAYING_MS = 20_000;
const MAIN: ContrastScope = { strip_id: 'main', step_id: null, lane_id: null };
/** Strips in one table at most. */
const MAX_STRIPS = 31;

class ContrastState {
  /** Whether several strips stand in the table, or the chosen scope alone. */
  several = $state(false);
  private measured = $state.raw<{ session: number; answer: ContrastAnswer } | null>(null);
  stale = $state(false);
  /** Whether it will be measured by itself once whatever moves rests. */
  waiting = $state(false);
  readonly asking = new Asking(workspace, 'contrast');
  private readonly rest = new Rest();

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
    this.stale = this.waiting = true;
    const hint_ms = workspace.listening.playing ? HINT_REST_PLAYING_MS : HINT_REST_MS;
    this.rest.after(mainOnly ? hint_ms : REST_MS, () => this.run(mainOnly ? [MAIN] : this.scopes()));
  }

  question(scopes: ContrastScope[] = this.scopes()) {
    return { tab: workspace.tab, number: workspace.measuring.nextNumber(), scopes };
  }

  async run(scopes: ContrastScope[] = this.scopes()): Promise<void> {
    this.waiting = false;
    const id = workspace.version?.id;
    const answer = await this.asking.answer(
      (session, signal) => api.studyContrast(session, this.question(scopes), signal),
      true,
    );
    if (!answer || id === undefined) return;
    this.measured = { session: id, answer };
    this.stale = false;
  }

  /** Nobody looks any more. */
  stop(): void {
    this.rest.stop();
    this.waiting = false;
    this.asking.cancel();
  }
}

export const contrast = new ContrastState();
