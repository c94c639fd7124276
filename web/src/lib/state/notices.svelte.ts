/** What the page says: notes that go by themselves, errors that wait to be read. */
import { Refused } from '../api/client';

export interface Notice {
  id: number;
  text: string;
  kind: 'error' | 'note';
  action?: { label: string; run: () => void };
  /** A newer notice of the same topic takes its place. */
  topic?: string;
}

/** A note that asks for nothing goes by itself. */
const NOTE_MS = 6000;
/** One that offers something stays longer. */
const ACT_MS = 20000;

export class Notices {
  list = $state<Notice[]>([]);
  private count = 0;

  note(text: string, kind: Notice['kind'] = 'note', action?: Notice['action'], topic?: string): void {
    if (topic !== undefined) this.list = this.list.filter((notice) => notice.topic !== topic);
    if (this.list.some((notice) => notice.text === text)) return;
    const id = (this.count += 1);
    this.list.push({ id, text, kind, action, topic });
    if (kind === 'note') setTimeout(() => this.dismiss(id), action ? ACT_MS : NOTE_MS);
  }

  dismiss(id: number): void {
    this.list = this.list.filter((notice) => notice.id !== id);
  }

  /** Runs something that asks the server; what is refused is said in the server's words. quiet: not where it is away, as the page
   * says so already and asks again. */
  async attempt<T>(work: () => Promise<T>, quiet = false): Promise<T | undefined> {
    try {
      return await work();
    } catch (error) {
      if (!(error instanceof Refused)) throw error;
      if (!(quiet && error.status === 0)) this.note(error.message, 'error');
      return undefined;
    }
  }
}
