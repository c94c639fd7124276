/** A question whose answer takes seconds: how far it is, and calling it off. A newer one takes the place of an older. */
import { api } from '../api/client';
import type { TimeLeft } from '../draw/time-left';

const UNKNOWN: TimeLeft = { seconds_left: null, rough: true };

const PROGRESS_MS = 200;

/** What a question needs to know of the page it is asked from. */
export interface Asker {
  readonly tab: string;
  readonly version: { readonly id: number } | null;
  attempt<T>(work: () => Promise<T>, quiet?: boolean): Promise<T | undefined>;
}

export class Asking {
  /** How much of the answer is there; null while none is on its way. */
  fraction = $state<number | null>(null);
  /** How long it will take from now, once that can be told. */
  left = $state.raw<TimeLeft>(UNKNOWN);
  private request: AbortController | null = null;

  constructor(
    private readonly asker: Asker,
    private readonly kind: Parameters<typeof api.progress>[2],
  ) {}

  /** Resolves with the answer; with null if it was called off, overtaken, or refused, which the page is told then. */
  async answer<T>(
    ask: (session: number, signal: AbortSignal) => Promise<T | null>,
    quiet = false,
  ): Promise<T | null> {
    this.cancel();
    const id = this.asker.version?.id;
    if (id === undefined) return null;
    const request = (this.request = new AbortController());
    this.fraction = 0;
    this.left = UNKNOWN;
    const polling = setInterval(() => {
      void api.progress(id, this.asker.tab, this.kind).then(
        ({ fraction, seconds_left, rough }) => {
          if (this.request !== request || fraction >= 1) return;
          this.fraction = fraction;
          this.left = { seconds_left, rough };
        },
        () => undefined,
      );
    }, PROGRESS_MS);
    try {
      const answer = await this.asker.attempt(() => ask(id, request.signal).catch(unlessCalledOff), quiet);
      return this.request === request ? (answer ?? null) : null;
    } finally {
      clearInterval(polling);
      if (this.request === request) this.cancel();
    }
  }

  cancel(): void {
    this.request?.abort();
    this.request = null;
    this.fraction = null;
  }
}

function unlessCalledOff(error: unknown): null {
  if (error instanceof DOMException) return null;
  throw error;
}
