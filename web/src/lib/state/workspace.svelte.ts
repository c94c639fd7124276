/* eslint svelte/prefer-svelte-reactivity: off -- the maps here hold bookkeeping that nothing is drawn from */
/** The open session and its edits; what is chosen, listened to and measured have files of their own. One for the page. */
import { api, newId, Refused, sendFile } from '../api/client';
import type {
  Edit,
  ImportView,
  Moved,
  Owner,
  Routing,
  Session,
  SettingValue,
  Step,
  Strip,
  Version,
  VersionAnswer,
} from '../api/client';
import { Audition } from '../audio/audition';
import type { Grid } from '../draw/grid';
import { everyStep } from '../path/tree';
import type { Address } from './course';
import { merged, previewed } from './document';
import { Described } from './described.svelte';
import { EditQueue } from './edit-queue';
import { History } from './history';
import { Jobs } from './jobs.svelte';
import { Listen, type Order, type Passage } from './listening.svelte';
import { Measuring, type Detail } from './measuring.svelte';
import { setOf } from './moves';
import { Notices, type Notice } from './notices.svelte';
import { recall, remember } from './remember';
import { Selection } from './selection.svelte';
import { together } from './together';

export class Workspace {
  readonly tab = crypto.randomUUID();
  readonly described = new Described();
  /** The session as the page shows it: as the server last told, with what is on its way there. */
  version = $state.raw<Version | null>(null);
  readonly selection: Selection = new Selection(
    () => this.session,
    (moved) => this.chosen(moved),
  );
  readonly listening: Listen = new Listen({
    scope: () => this.selection.scope,
    note: (text, kind) => this.note(text, kind),
    message: (message) => {
      // The first message of a socket says the revision too: an edit may have come between the page's question and its socket.
      if (message.type === 'version') this.told(message.revision);
      else if (message.type === 'measuring') this.matching = message.steps;
      else if (message.type === 'refused') this.note(message.why, 'note', undefined, 'try');
    },
    back: () => void this.goOn(),
    passage: () => {
      this.measuring.resetZoom();
      this.keepView();
      this.measure();
    },
  });
  readonly measuring: Measuring = new Measuring({
    study: (detail) => this.askStudy(detail),
    overview: (columns) => this.askOverview(columns),
  });
  /** Edits and whatever else changes the session, on their way. */
  saving = $state(0);
  /** The steps whose loudness is being measured; until then the last match sounds. */
  matching = $state.raw<string[]>([]);
  /** Takes a value that something moves: a hand's move means another edit then (see `automation.svelte.ts`). */
  divert: (address: Address, value: number, gesture: string | null) => boolean = () => false;
  readonly notices = new Notices();
  readonly history: History = new History({
    tab: this.tab,
    settled: () => this.queue.settled,
    stored: () => this.stored,
    take: (answer) => this.changed(answer),
    attempt: async (work) => void (await this.attempt(work)),
    say: (text) => this.note(text, 'note', undefined, 'undo'),
    storing: (work) => this.storing(work),
  });
  readonly jobs = new Jobs({ ...api, sendFile }, this.notices);
  /** What is proposed after an import, until it is answered. */
  imported = $state.raw<ImportView | null>(null);

  /** Whether the blind comparison of what is chosen is open. */
  blindOpen = $state(false);
  /** Whether an aim for what is chosen is open. */
  aimOpen = $state(false);

  /** As the server last stored. */
  private stored: Version | null = null;
  private readonly queue: EditQueue = new EditQueue(
    async (next) => {
      const stored = this.stored;
      if (!stored) return;
      try {
        const answer = await api.edit(stored.id, next, this.tab, stored.revision);
        this.history.own(answer.undo);
        await this.changed(answer);
      } catch (error) {
        if (!(error instanceof Refused) || error.status === 0) throw error;
        this.note(
          this.away
            ? `An edit made while the server was away was not taken: ${error.message}`
            : error.message,
          'error',
        );
      }
    },
    () => this.preview(),
    (error) => error instanceof Refused && error.status === 0,
  );
  /** Whether edits are being sent that waited for the server. */
  private away = false;
  private ordering = false;
  /** Ways through the history, and what is measured to be stored, under way. */
  private others = 0;

  // ---- what is open ----------------------------------------------------------------------------------------------

  // Derived, so that what hangs on a step is not told of edits of another: what stayed is the same object.
  readonly session: Session | null = $derived(this.version?.session ?? null);

  /** Where sound goes and why it does not: silence, keys, latency. */
  readonly routing: Routing | null = $derived(this.version?.routing ?? null);

  /** Bars and beats. */
  readonly grid: Grid = $derived(this.session ?? { tempo_bpm: 120, beats_in_bar: 4, bar_one_s: 0 });

  stripNamed(id: string | null): string {
    return this.session?.strips.find((strip) => strip.id === id)?.name ?? 'nothing';
  }

  /** A step of any strip. */
  stepById(id: string): Step | null {
    for (const strip of this.session?.strips ?? [])
      for (const step of everyStep(strip.path.steps)) if (step.id === id) return step;
    return null;
  }

  /** wanted: the session that the address names. */
  async start(wanted: number | null = null): Promise<void> {
    await this.attempt(async () => {
      const [all] = await Promise.all([api.sessions(), this.described.read()]);
      const rows = all.filter((row) => !row.deleted);
      const last = recall<number>('session');
      const named = rows.find((candidate) => candidate.id === wanted);
      if (wanted !== null && !named) this.note('The session of this address is not there any more.', 'error');
      const row = named ?? rows.find((candidate) => candidate.id === last) ?? rows[0];
      if (row) await this.open(row.id);
    });
  }

  async open(id: number): Promise<void> {
    const version = await api.open(id);
    // What is on its way belongs to the session that is open still.
    if (!this.queue.paused) await this.queue.settled;
    this.close();
    remember('session', id);
    this.take(version);
    for (const text of version.notices) this.note(text);
    const kept = recall<{ strip: string; step: string | null; lane?: string | null; passage: Passage }>(
      `view.${id}`,
    );
    const strips = version.session.strips;
    const keyed = (strip: Strip) => strip.path.steps.some((step) => step.key);
    const first = strips.find((strip) => strip.name === 'Snare') ?? strips.find(keyed) ?? strips[0]!;
    this.selection.open(first, kept);
    const { sections } = version.session;
    const section = sections.find((candidate) => candidate.name === 'Chorus') ?? sections[1];
    const all = { start_s: 0, end_s: Math.min(version.length_s, 20), name: 'Start' };
    this.listening.setPassage(kept?.passage ?? (section ? { ...section } : all));
    this.listenTo(version);
    this.jobs.open(id);
  }

  private listenTo({ id, session }: Version): void {
    this.listening.open((listener) => new Audition(id, this.tab, session.rate_hz, listener));
  }

  close(): void {
    this.listening.close();
    this.measuring.close();
    this.jobs.close();
    this.selection.clear();
    this.matching = [];
    this.version = this.stored = null;
    this.queue.clear();
  }

  private take(version: Version): void {
    if (this.stored?.id === version.id && version.revision < this.stored.revision) return;
    const rate = this.stored?.session.rate_hz;
    this.stored = version;
    // The sound comes at another rate from now on.
    if (rate !== undefined && rate !== version.session.rate_hz) this.listenTo(version);
    this.preview();
  }

  /** Show what is on its way to the server as if it were there. */
  private preview(): void {
    this.saving = this.queue.left + this.others;
    if (!this.stored) return;
    this.version = previewed(this.stored, this.queue.edits);
    this.selection.settle();
  }

  /** Another tab changed the session. */
  private async refresh(): Promise<void> {
    const id = this.version?.id;
    if (id === undefined) return;
    await this.attempt(async () => {
      this.take(await api.open(id));
      this.listening.tellScope();
      this.measuring.edited();
    });
  }

  /** The server is there again, the same or another one: what was on its way is sent, and what played plays on. */
  private async goOn(): Promise<void> {
    await this.refresh();
    this.away = true;
    this.queue.resume();
    await this.queue.settled;
    this.away = false;
    if (this.listening.playing) void this.listening.play(this.listening.position_s);
  }

  // ---- edits -------------------------------------------------------------------------------------------------------

  /** Send an edit; resolves when it has been answered. part: the drag it belongs to (see `EditQueue`). */
  edit(one: Edit, part: string | null = null): Promise<void> {
    const gesture = part ?? newId();
    const edit = together(this.selection, one);
    // What moves is heard as it is made, and stored after it.
    const heard = edit.op === 'set' && this.hear(edit.values, gesture, edit.strips);
    const done = this.queue.add(edit, gesture, heard);
    if (edit.op !== 'set_delivery') this.measuring.edited(true); // of which no figure depends
    return done;
  }

  /** What changes the session in the end, such as what is measured first and set then: the page says so all the while. */
  async storing<T>(work: () => Promise<T>): Promise<T> {
    this.others += 1;
    this.saving = this.queue.left + this.others;
    try {
      return await work();
    } finally {
      this.others -= 1;
      this.saving = this.queue.left + this.others;
    }
  }

  /** Hear values that are stored later, by the edit of this gesture. Returns whether it plays. */
  hear(values: Moved[], gesture: string, strips: string[] = []): boolean {
    if (this.listening.playing)
      this.listening.send({ type: 'move', values, strips, gesture, number: this.queue.number + 1 });
    return this.listening.playing;
  }

  /** New values for one object of the session. */
  move(
    of: Owner,
    id: string | null,
    values: Record<string, SettingValue>,
    gesture: string | null = null,
  ): void {
    const plain = Object.entries(values).filter(
      ([name, value]) => typeof value !== 'number' || !this.divert({ of, id, name }, value, gesture),
    );
    if (plain.length) void this.edit(setOf(of, id, Object.fromEntries(plain)), gesture);
  }

  /** The server has this revision. */
  private told(revision: number): void {
    if (!this.stored || revision <= this.stored.revision) return;
    const before = this.stored.undo;
    void this.refresh().then(() => this.history.came(before, this.stored?.undo));
  }

  private async changed(answer: VersionAnswer): Promise<void> {
    if (this.stored?.id !== answer.id) return;
    // Another tab, or a measured match, came between: then the whole is asked for.
    const version = merged(this.stored, answer);
    if (version) this.take(version);
    else await this.refresh();
    if (this.listening.order && !this.ordering) this.listening.setOrder(null);
    for (const text of answer.notices) this.note(text, 'note', this.history.offer());
    this.listening.tellScope();
    this.measuring.edited();
  }

  set(stepId: string, settings: Record<string, SettingValue>, gesture: string | null = null): void {
    this.move('step', stepId, settings, gesture);
  }

  /** Another order of two steps, to be heard as loud as the one before. */
  async reorder(edit: Edit, order: Order): Promise<void> {
    this.ordering = true;
    this.listening.setOrder(order);
    await this.edit(edit);
    this.ordering = false;
  }

  // ---- choosing and listening --------------------------------------------------------------------------------------

  /** Whether the chosen step has a detector. */
  get hasDetector(): boolean {
    const { step } = this.selection;
    return Boolean(step && this.described.processor(step.kind)?.listens);
  }

  private chosen(moved: boolean): void {
    this.measuring.clear(moved);
    this.keepView();
    this.listening.tellScope();
    const { to } = this.listening;
    const gone =
      (to === 'key' && !this.hasDetector) ||
      (to === 'solo lane' && !this.selection.context?.lane) ||
      (to === 'difference' && moved);
    if (gone) this.listening.listenTo('after');
    if (to === 'difference' && moved)
      this.note(
        'Another strip was chosen: you hear After again, not the difference.',
        'note',
        undefined,
        'listening',
      );
    this.measure();
  }

  private keepView(): void {
    const { selection, version } = this;
    if (version)
      remember(`view.${version.id}`, {
        strip: selection.stripId,
        step: selection.stepId,
        lane: selection.laneId,
        passage: this.listening.passage,
      });
  }

  // ---- measuring ---------------------------------------------------------------------------------------------------

  /** Ask for the ledger and the pictures of the scope at once. */
  measure(): void {
    if (this.version) this.measuring.looked();
  }

  /** Older questions are superseded on the server. */
  private async askStudy({ columns, zoom }: Detail) {
    const version = this.version;
    if (!version) return null;
    const { start_s, end_s } = this.listening.passage;
    const question = {
      tab: this.tab,
      number: this.measuring.nextNumber(),
      ...this.selection.scope,
      start_s,
      end_s,
      columns,
      zoom_start: zoom[0],
      zoom_end: zoom[1],
    };
    return (await this.attempt(() => api.studyScope(version.id, question), true)) ?? null;
  }

  private async askOverview(columns: number) {
    const version = this.version;
    if (!version) return null;
    const question = {
      tab: this.tab,
      number: this.measuring.nextNumber(),
      strip_id: this.selection.stripId,
      columns,
    };
    return (await this.attempt(() => api.studyOverview(version.id, question), true)) ?? null;
  }

  /** The server has done something for this tab. */
  async came(): Promise<void> {
    await this.queue.settled;
    await this.refresh();
    this.history.own(this.stored?.undo);
  }

  // ---- notices ---------------------------------------------------------------------------------------------------

  note(text: string, kind: Notice['kind'] = 'note', action?: Notice['action'], topic?: string): void {
    this.notices.note(text, kind, action, topic);
  }

  attempt<T>(work: () => Promise<T>, quiet = false): Promise<T | undefined> {
    return this.notices.attempt(work, quiet);
  }
}

export const workspace = new Workspace();
