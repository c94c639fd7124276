/* eslint svelte/prefer-svelte-reactivity: off -- the maps here hold bookkeeping that nothing is drawn from */
/** Long work of the open session: files sent and read, deliveries, checks, with progress and cancel. */
import { type ImportView, type JobView, type Refused } from '../api/client';
import type { Notices } from './notices.svelte';

const JOB_POLL_MS = 250;
/** What is being sent, so that a page that was loaded anew meanwhile knows of it. */
const SENDING = 'saltanvil.sending';
interface Sending {
  session: number;
  importId: number;
  names: string[];
}
const unfinished = (job: JobView) => job.state === 'waiting' || job.state === 'running';

/** How the server is asked. */
export interface JobApi {
  jobs(id: number): Promise<JobView[]>;
  cancel(number: number): Promise<unknown>;
  newImport(
    id: number,
    asked: { names: string[]; order: 'name' | 'given'; rate: 'session' | 'files'; replaces?: string },
  ): Promise<ImportView>;
  sendFile(
    id: number,
    number: number,
    place: number,
    file: File,
    progress: (share: number) => void,
    signal: AbortSignal,
  ): Promise<void>;
  finishImport(id: number, number: number): Promise<JobView>;
  importView(id: number, number: number): Promise<ImportView>;
  splitTrack(id: number, strip: string): Promise<JobView>;
  print(id: number, strips: string[]): Promise<JobView>;
  dropImport(id: number, number: number): Promise<unknown>;
  batch(id: number, request: BatchRequest): Promise<JobView>;
}

/** What is done to each file of a batch. */
export interface BatchRequest {
  import_id: number;
  strip_id: string;
  format: string;
  loudness_lufs: number | null;
}

export interface Upload {
  id: number;
  text: string;
  share: number;
  cancel: () => void;
}

export class Jobs {
  list = $state.raw<JobView[]>([]);
  uploads = $state<Upload[]>([]);
  private session: number | null = null;
  private timer: ReturnType<typeof setTimeout> | undefined;
  private told = new Set<number>();
  private count = 0;
  private waiting = new Map<number, (job: JobView) => void>();

  constructor(
    private readonly api: JobApi,
    private readonly notices: Notices,
  ) {}

  open(session: number): void {
    this.session = session;
    this.brokenOff();
    void this.poll();
  }

  /** Whether leaving the page would break off what is being sent. */
  get sending(): boolean {
    return this.uploads.length > 0;
  }

  /** What the page was sending when it was left did not arrive: say so, and let the server forget the part that did. */
  private brokenOff(): void {
    const kept = sessionStorage.getItem(SENDING);
    if (kept === null || this.sending) return;
    sessionStorage.removeItem(SENDING);
    const { session, importId, names } = JSON.parse(kept) as Sending;
    void this.notices.attempt(() => this.api.dropImport(session, importId), true);
    const files = names.length === 1 ? `${names[0]} was` : `${names.length} files were`;
    const which = names.length === 1 ? '' : ` (${names.join(', ')})`;
    this.notices.note(
      `${files} not imported, as the page was left while sending: import again${which}.`,
      'error',
    );
  }

  close(): void {
    this.session = null;
    clearTimeout(this.timer);
    this.waiting.clear();
    this.list = [];
  }

  cancel(number: number): void {
    void this.notices.attempt(async () => {
      await this.api.cancel(number);
      await this.poll();
    });
  }

  /** Resolves with the job when it has ended. */
  ended(job: JobView): Promise<JobView> {
    const done = new Promise<JobView>((resolve) => this.waiting.set(job.id, resolve));
    void this.poll();
    return done;
  }

  async poll(): Promise<void> {
    const id = this.session;
    if (id === null) return;
    clearTimeout(this.timer);
    const jobs = await this.notices.attempt(() => this.api.jobs(id), true);
    if (id !== this.session) return;
    for (const job of jobs ?? []) this.look(job);
    if (jobs) this.list = jobs;
    if (!jobs || jobs.some(unfinished) || this.waiting.size)
      this.timer = setTimeout(() => void this.poll(), JOB_POLL_MS);
  }

  private look(job: JobView): void {
    if (unfinished(job)) return;
    this.waiting.get(job.id)?.(job);
    this.waiting.delete(job.id);
    if (this.told.has(job.id)) return;
    this.told.add(job.id);
    if (job.state === 'failed') this.notices.note(job.error ?? `${job.title} failed`, 'error');
    if (job.kind === 'import' || job.kind === 'batch')
      for (const warning of job.warnings) this.notices.note(warning, 'error');
  }

  /**
   * Send files and make tracks of them; null if nothing came of it. Files that are refused are named, and the others go on.
   * fresh: whether the session has no sound, so that it takes the files' rate.
   */
  async import(
    files: File[],
    order: 'name' | 'given',
    fresh: boolean,
    replaces?: string,
  ): Promise<ImportView | null> {
    const id = this.session;
    const view = await this.sent(files, order, fresh, replaces);
    if (id === null || !view) return null;
    const job = await this.notices.attempt(() => this.api.finishImport(id, view.id));
    if (!job || (await this.ended(job)).state !== 'done') return null;
    return (await this.notices.attempt(() => this.api.importView(id, view.id))) ?? null;
  }

  /** Make two mono tracks of a stereo one; whether it was done. */
  async split(strip: string): Promise<boolean> {
    const id = this.session;
    if (id === null) return false;
    const job = await this.notices.attempt(() => this.api.splitTrack(id, strip));
    return job !== undefined && (await this.ended(job)).state === 'done';
  }

  /** Let tracks play what leaves their paths; whether it was done. */
  async print(strips: string[]): Promise<boolean> {
    const id = this.session;
    if (id === null) return false;
    const job = await this.notices.attempt(() => this.api.print(id, strips));
    return job !== undefined && (await this.ended(job)).state === 'done';
  }

  /** Send files and put each through a strip's path. */
  async batch(files: File[], request: Omit<BatchRequest, 'import_id'>): Promise<JobView | null> {
    const id = this.session;
    const view = await this.sent(files, 'name', false);
    if (id === null || !view) return null;
    const job = await this.notices.attempt(() => this.api.batch(id, { ...request, import_id: view.id }));
    return job ? this.ended(job) : null;
  }

  /** The files as an import that is still to be finished; null if none came through. */
  private async sent(
    files: File[],
    order: 'name' | 'given',
    fresh: boolean,
    replaces?: string,
  ): Promise<ImportView | null> {
    const id = this.session;
    if (id === null || !files.length) return null;
    const stop = new AbortController();
    const asked = {
      names: files.map((file) => file.name),
      order,
      rate: fresh ? 'files' : 'session',
      ...(replaces === undefined ? {} : { replaces }),
    } as const;
    const view = await this.notices.attempt(() => this.api.newImport(id, asked));
    if (!view) return null;
    const sending: Sending = { session: id, importId: view.id, names: asked.names };
    sessionStorage.setItem(SENDING, JSON.stringify(sending));
    const number = (this.count += 1);
    this.uploads.push({ id: number, text: '', share: 0, cancel: () => stop.abort() });
    const upload = this.uploads.at(-1)!;
    const size = files.reduce((sum, file) => sum + file.size, 0) || 1;
    let [sent, taken] = [0, 0];
    try {
      for (const [place, file] of files.entries()) {
        upload.text = files.length === 1 ? file.name : `${file.name} (${place + 1} of ${files.length})`;
        const progress = (share: number) => (upload.share = (sent + share * file.size) / size);
        try {
          await this.api.sendFile(id, view.id, place, file, progress, stop.signal);
          taken += 1;
        } catch (error) {
          if (stop.signal.aborted) break;
          this.notices.note((error as Refused).message, 'error');
        }
        sent += file.size;
      }
    } finally {
      this.uploads = this.uploads.filter((other) => other.id !== number);
      if (!this.sending) sessionStorage.removeItem(SENDING);
    }
    if (stop.signal.aborted || !taken) {
      void this.notices.attempt(() => this.api.dropImport(id, view.id));
      return null;
    }
    return view;
  }
}
