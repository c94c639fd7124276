/** Back and forth over the edits of the session. What is on its way comes first: the last edit made is the one undone. */
import { api, type EditPart, type Version, type VersionAnswer } from '../api/client';

interface Around {
  tab: string;
  /** Resolves when nothing is on its way to the server. */
  settled: () => Promise<void>;
  /** As the server last stored. */
  stored: () => Version | null;
  take: (answer: VersionAnswer) => Promise<void>;
  attempt: (work: () => Promise<void>) => Promise<void>;
  /** Says what was undone or redone, or what would be. */
  say: (text: string) => void;
  /** What is under way is said to be so. */
  storing: <T>(work: () => Promise<T>) => Promise<T>;
}

/** For so long a second press means what was said after the first. */
const ASKED_MS = 6000;

export class History {
  /** The last edit if another tab made it, and when it was said that it is about to be undone. */
  private foreign: string | null = null;
  private mine: string | null = null;
  private asked = -ASKED_MS;

  constructor(private readonly around: Around) {}

  /** Another tab, or another hand, changed the session: its last edit is named before it is undone. */
  came(before: string | null | undefined, now: string | null | undefined): void {
    if (now && now !== before && now !== this.mine) this.foreign = now;
  }

  /** What the server did for this tab, such as an import. */
  own(words: string | null | undefined): void {
    this.mine = words ?? null;
    if (this.foreign === this.mine) this.foreign = null;
  }

  /** The last edit; part: the last that is about it, though others were made since. */
  async undo(part: EditPart | null = null): Promise<void> {
    await this.around.settled();
    const what = this.around.stored()?.undo;
    if (part !== 'delivery' && what && what === this.foreign && performance.now() - this.asked > ASKED_MS) {
      this.asked = performance.now();
      return this.around.say(`Another tab made the last edit: ${what}. Undo again to undo it.`);
    }
    this.foreign = null;
    const after = await this.go((id, tab, since) => api.undo(id, tab, since, part));
    const words = after?.redo ?? what;
    if (after && words) this.around.say(`Undone: ${words}`);
  }

  /** For a notice about the edit that was just made: its undo, as long as no other came after it. */
  offer(): { label: string; run: () => void } {
    const made = this.around.settled().then(() => this.around.stored()?.undo);
    const run = async () => {
      const what = await made;
      await this.around.settled();
      if (this.around.stored()?.undo === what) await this.undo();
      else this.around.say(`Other edits were made since. The history goes back to before: ${what}.`);
    };
    return { label: 'Undo', run: () => void run() };
  }

  async redo(part: EditPart | null = null): Promise<void> {
    await this.around.settled();
    const what = this.around.stored()?.redo;
    const after = await this.go((id, tab, since) => api.redo(id, tab, since, part));
    const words = after?.undo ?? what;
    if (after && words) this.around.say(`Redone: ${words}`);
  }

  /** To a place of the history. */
  async goTo(position: number): Promise<void> {
    await this.go((id, tab, since) => api.goTo(id, position, tab, since));
  }

  /** What something was at a place of the history, into a slot. */
  async slotFrom(
    position: number,
    { of, id }: { of: 'step' | 'lane' | 'strip'; id: string },
    slot: number,
  ): Promise<void> {
    await this.go((session, tab, since) => api.slotFrom(session, { tab, since, position, of, id, slot }));
  }

  /** The version that it led to; null if it was refused. */
  private async go(way: typeof api.undo): Promise<VersionAnswer | null> {
    let answer: VersionAnswer | null = null;
    await this.around.storing(async () => {
      await this.around.settled();
      const stored = this.around.stored();
      if (stored)
        await this.around.attempt(async () => {
          answer = await way(stored.id, this.around.tab, stored.revision);
          await this.around.take(answer);
        });
    });
    return answer;
  }
}
