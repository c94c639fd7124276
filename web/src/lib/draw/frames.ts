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

/** Lets an element that fills its (clipping) box slide so far into it as `share` says, 0 to 1, while it plays. */
export function slides(share: () => number, from: 'left' | 'right' = 'left') {
  return (element: HTMLElement) => {
    let shown = -1;
    const paint = () => {
      const wanted = Math.max(0, Math.min(1, share()));
      if (wanted === shown || (Math.abs(wanted - shown) < STEP && wanted > 0 && wanted < 1)) return;
      shown = wanted;
      const away = 100 * (1 - wanted);
      element.style.transform = `translateX(${(from === 'left' ? -away : away).toFixed(2)}%)`;
    };
    paint();
    return frames.add(paint);
  };
}
