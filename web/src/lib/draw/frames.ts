/** Painting that follows the sound while it plays. Meters move here and not in Svelte: only what has moved is touched, and nothing
 * is laid out anew. */

type Paint = (now: number) => void;

/** Meters move some twenty times a second: a frame of the page costs a machine without a graphics card about 15 ms of a core, which
 * the sound needs more. Playheads glide by themselves (see `Playhead`). */
const PAUSE_MS = 34;

export class Frames {
  private readonly paints = new Set<Paint>();
  private requested = 0;
  private running = false;

  constructor(
    private readonly request: (paint: Paint) => number = (paint) =>
      setTimeout(() => requestAnimationFrame(paint), PAUSE_MS),
    private readonly cancel: (id: number) => void = (id) => clearTimeout(id),
  ) {}

  /** Paint from now on; returns how to end that. */
  add(paint: Paint): () => void {
    this.paints.add(paint);
    return () => this.paints.delete(paint);
  }

  /** Off: everything is painted once more, to show that nothing sounds. */
  run(on: boolean): void {
    if (on === this.running) return;
    this.running = on;
    this.cancel(this.requested);
    this.requested = this.request((now) => this.frame(now));
  }

  get on(): boolean {
    return this.running;
  }

  private frame(now: number): void {
    for (const paint of this.paints) paint(now);
    if (this.running) this.requested = this.request((next) => this.frame(next));
  }
}

export const frames = new Frames();

/** Less of a share than this is not seen to move. */
const STEP = 0.004;

/** Lets the background of an element reach so far from the left as `share` says, 0 to 1, while it plays: it is painted anew, and
 * nothing is laid out. */
export function fills(share: () => number) {
  return (element: HTMLElement) => {
    let shown = -1;
    const paint = () => {
      const wanted = Math.max(0, Math.min(1, share()));
      if (wanted === shown || (Math.abs(wanted - shown) < STEP && wanted > 0 && wanted < 1)) return;
      shown = wanted;
      element.style.backgroundSize = `${(100 * wanted).toFixed(2)}% 100%`;
    };
    paint();
    return frames.add(paint);
  };
}
