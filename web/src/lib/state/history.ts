/** Back and forth over the edits of the session. What is on its way comes first: the last edit made is the one undone. */
import { api, type Version, type VersionAnswer } from '../api/client';

interface Around {
  tab: string;
  /** Resolves when nothing is on its way to the server. */
  settled: () => Promise<void>;
  /** As the server last stored. */
  stored: () => Version | null;
  take: (answer: VersionAnswer) => Promise<void>;
  attempt: (work: () => Promise<void>) => Promise<void>;
  /** Says what was undone or redone. */
  say: (text: string) => void;
}

export class History {
  constructor(private readonly around: Around) {}

  async undo(): Promise<void> {
    await this.around.settled();
    const what = this.around.stored()?.undo;
    await this.go(api.undo);
    if (what) this.around.say(`Undone: ${what}`);
  }

  async redo(): Promise<void> {
    await this.around.settled();
    const what = this.around.stored()?.redo;
    await this.go(api.redo);
    if (what) this.around.say(`Redone: ${what}`);
  }

  /** To a place of the history. */
  goTo(position: number): Promise<void> {
    return this.go((id, tab, since) => api.goTo(id, position, tab, since));
  }

  /** What something was at a place of the history, into a slot. */
  slotFrom(
    position: number,
    { of, id }: { of: 'step' | 'lane' | 'strip'; id: string },
    slot: number,
  ): Promise<void> {
    return this.go((session, tab, since) => api.slotFrom(session, { tab, since, position, of, id, slot }));
  }

  private async go(way: typeof api.undo): Promise<void> {
    await this.around.settled();
    const stored = this.around.stored();
    if (!stored) return;
    await this.around.attempt(async () =>
      this.around.take(await way(stored.id, this.around.tab, stored.revision)),
    );
  }
}
