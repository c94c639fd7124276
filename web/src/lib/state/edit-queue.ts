/** Edits on their way to the server: in order, one at a time. */
import type { Edit } from '../api/client';

export interface Waiting {
  edit: Edit;
  gesture: string | null;
}

/** What an edit moves, as one word; null for one that does more than move values. */
export function targetOf(edit: Edit): string | null {
  if (edit.op !== 'set') return null;
  return edit.values
    .map((moved) => `${moved.of} ${moved.id ?? ''} ${moved.name}`)
    .sort()
    .join(', ');
}

/**
 * Edits of one gesture that move the same values overtake each other while they wait: only the newest is sent. That holds
 * for the last in the queue only, so that no edit ever passes another.
 */
export class EditQueue {
  private readonly waiting: Waiting[] = [];
  private sending: Promise<void> | null = null;

  /** send: takes one edit to the server; changed: told how many are not there yet. */
  constructor(
    private readonly send: (next: Waiting) => Promise<void>,
    private readonly changed: (left: number) => void = () => undefined,
  ) {}

  /** Resolves when this edit, and all before it, have been answered. */
  add(edit: Edit, gesture: string | null = null): Promise<void> {
    const last = this.waiting.at(-1);
    const target = targetOf(edit);
    if (
      last &&
      gesture !== null &&
      target !== null &&
      last.gesture === gesture &&
      targetOf(last.edit) === target
    )
      this.waiting[this.waiting.length - 1] = { edit, gesture };
    else this.waiting.push({ edit, gesture });
    this.changed(this.left);
    this.sending ??= this.run().finally(() => (this.sending = null));
    return this.sending;
  }

  private busy = 0;

  get left(): number {
    return this.waiting.length + this.busy;
  }

  private async run(): Promise<void> {
    const failed: unknown[] = [];
    for (let next = this.waiting.shift(); next; next = this.waiting.shift()) {
      this.busy = 1;
      await this.send(next).catch((error: unknown) => failed.push(error));
      this.busy = 0;
      this.changed(this.left);
    }
    if (failed.length) throw failed[0];
  }
}
