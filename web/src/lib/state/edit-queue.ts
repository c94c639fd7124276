/** Edits on their way to the server: in order, one at a time, kept while it cannot be reached. */
import type { Edit } from '../api/client';

export interface Waiting {
  edit: Edit;
  gesture: string | null;
  /** Counts all that was added. */
  number: number;
  /** When it is to be stored at the earliest. */
  from: number;
}

/** Steps of one gesture are stored no more often than this; they are heard as they are made. */
export const STORE_EVERY_MS = 160;
/** What is heard as it is made is stored so much later: what there is to do for that must not keep it from the ear. */
export const HEARD_FIRST_MS = 50;

/** What an edit moves, as one word; null for one that does more than move values. */
export function targetOf(edit: Edit): string | null {
  if (edit.op === 'shift_envelope') return `shift ${edit.of} ${edit.id ?? ''} ${edit.name}`;
  if (edit.op === 'change_envelope' && !edit.remove?.length && !edit.clear) {
    const points = (edit.put_points ?? []).map((point) => point.id).sort();
    const sections = Object.keys(edit.sections ?? {}).sort();
    return ['change', edit.of, edit.id ?? '', edit.name, ...points, '/', ...sections].join(' ');
  }
  if (edit.op !== 'set') return null;
  return edit.values
    .map((moved) => `${moved.of} ${moved.id ?? ''} ${moved.name}`)
    .sort()
    .join(', ');
}

/** Whether an edit makes another needless: one of the same gesture that moves the same values. */
function overtakes(next: Waiting | undefined, last: Waiting | undefined): boolean {
  if (!next || !last || next.gesture === null || next.gesture !== last.gesture) return false;
  const target = targetOf(next.edit);
  return target !== null && target === targetOf(last.edit);
}

/**
 * Edits of one gesture that move the same values overtake each other while they wait: only the newest is sent. That holds
 * for the last in the queue only, so that no edit ever passes another.
 */
export class EditQueue {
  private readonly waiting: Waiting[] = [];
  private sent: Waiting | null = null;
  private sending: Promise<void> | null = null;
  private resumed: (() => void) | null = null;
  private count = 0;
  private last: { gesture: string | null; at: number } = { gesture: null, at: 0 };

  /**
   * send: takes one edit to the server; changed: told when what is on its way has changed; lost: whether an error means that the
   * server was not reached, so that the edit waits for `resume`.
   */
  constructor(
    private readonly send: (next: Waiting) => Promise<void>,
    private readonly changed: () => void = () => undefined,
    private readonly lost: (error: unknown) => boolean = () => false,
  ) {}

  /** The number of what was added last. */
  get number(): number {
    return this.count;
  }

  /** What is not answered yet, in order. */
  get edits(): Edit[] {
    return [...(this.sent ? [this.sent] : []), ...this.waiting].map(({ edit }) => edit);
  }

  get left(): number {
    return this.waiting.length + (this.sent ? 1 : 0);
  }

  /** Whether the server could not be reached. */
  get paused(): boolean {
    return this.resumed !== null;
  }

  /** Resolves when this edit, and all before it, have been answered. heard: it sounds already. */
  add(edit: Edit, gesture: string | null = null, heard = false): Promise<void> {
    const from = performance.now() + (heard ? HEARD_FIRST_MS : 0);
    const next = { edit, gesture, number: (this.count += 1), from };
    if (overtakes(next, this.waiting.at(-1))) this.waiting.pop();
    this.waiting.push(next);
    this.sending ??= this.run().finally(() => (this.sending = null));
    this.changed();
    return this.sending;
  }

  /** Resolves when nothing is on its way any more. */
  get settled(): Promise<void> {
    return this.sending ?? Promise.resolve();
  }

  /** The server is there again: send on. */
  resume(): void {
    const go = this.resumed;
    this.resumed = null;
    go?.();
  }

  /** Forget what has not been sent: another session is opened. */
  clear(): void {
    this.waiting.length = 0;
    this.resume();
  }

  /** Milliseconds, so that sound comes first and a gesture is not stored too often. */
  private pauseBefore(next: Waiting): number {
    const goesOn = next.gesture !== null && next.gesture === this.last.gesture;
    return (goesOn ? this.last.at + STORE_EVERY_MS : next.from) - performance.now();
  }

  private async run(): Promise<void> {
    const failed: unknown[] = [];
    while (this.waiting.length) {
      const pause = this.pauseBefore(this.waiting[0]!);
      if (pause > 0) await new Promise((resolve) => setTimeout(resolve, pause));
      const next = this.waiting.shift();
      if (!next) break;
      this.sent = next;
      this.last = { gesture: next.gesture, at: performance.now() };
      try {
        await this.send(next);
      } catch (error) {
        if (this.lost(error)) {
          if (!overtakes(this.waiting[0], next)) this.waiting.unshift(next);
          this.sent = null;
          const until = new Promise<void>((resolve) => (this.resumed = resolve));
          this.changed();
          await until;
          continue;
        }
        failed.push(error);
      }
      this.sent = null;
      this.changed();
    }
    if (failed.length) throw failed[0];
  }
}
