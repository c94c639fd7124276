/* eslint svelte/prefer-svelte-reactivity: off -- the maps here hold bookkeeping that nothing is drawn from */
/** The open session: its document, what is chosen, what is heard, what was measured. One for the page. */
import { api, newId, Refused, sendFile } from '../api/client';
import type {
  Edit,
  ImportView,
  Lane,
  Owner,
  PathStart,
  Processor,
  Routing,
  Session,
  Setting,
  SettingValue,
  Step,
  Strip,
  Version,
  VersionAnswer,
} from '../api/client';
import { Audition } from '../audio/audition';
import type { BlockHeader } from '../audio/protocol';
import { frames } from '../draw/frames';
import { find, type Chosen, type Found } from '../path/tree';
import { merged, previewed } from './document';
import { EditQueue } from './edit-queue';
import { Jobs } from './jobs.svelte';
import { Notices, type Notice } from './notices.svelte';
import type { Grid } from '../draw/grid';
import { Measuring } from './measuring.svelte';
import { setOf } from './moves';

export type Listening = 'before' | 'after' | 'difference' | 'key' | 'solo lane';
/** Two steps of a strip that were swapped, and the gain by which this order is as loud as the other. */
export interface Order {
  strip_id: string;
  step_id: string;
  other_id: string;
  gain_db: number;
}
export type MonitorName = 'full range' | 'small speaker' | 'mono' | 'dim';
export interface Passage {
  start_s: number;
  end_s: number;
  name: string;
}

/** Figures change in every second frame, so that they can be read. */
const SHOW_EVERY = 2;
/** A place is not guessed further than this beyond what was told. */
const MAX_GUESS_S = 0.1;
/** Without anything heard for so long, it does not sound. */
const SILENT_MS = 600;
/** Columns of the whole session's waveform; more where only a part of it is seen. */
const OVERVIEW_COLUMNS = 1200;
const MAX_OVERVIEW_COLUMNS = 16384;

const remember = (name: string, value: unknown) =>
  localStorage.setItem(`saltanvil.${name}`, JSON.stringify(value));
function recall<T>(name: string): T | null {
  try {
    return JSON.parse(localStorage.getItem(`saltanvil.${name}`) ?? 'null') as T | null;
  } catch {
    return null;
  }
}

export class Workspace {
  readonly tab = crypto.randomUUID();
  processors = $state.raw<Processor[]>([]);
  /** What is described of strips, lanes, sends, keys, steps and the session. */
  settings = $state.raw<Partial<Record<Owner, Setting[]>>>({});
  /** Ready-made paths and splits. */
  pathStarts = $state.raw<PathStart[]>([]);
  /** The session as the page shows it: as the server last told, with what is on its way there. */
  version = $state.raw<Version | null>(null);
  stripId = $state('main');
  stepId = $state<string | null>(null);
  /** The lane that is chosen itself; null while a step is. */
  laneId = $state<string | null>(null);
  /** Strips chosen together, by Shift or Ctrl; empty while only one is chosen. */
  chosenStripIds = $state<string[]>([]);
  /** Steps chosen together, by Shift or Ctrl; empty while only one is chosen. */
  selected = $state<string[]>([]);
  passage = $state<Passage>({ start_s: 0, end_s: 10, name: 'Start' });
  loop = $state(true);
  /** Whether it is to play; whether anything came to be heard of late. */
  playing = $state(false);
  sounding = $state(false);
  position_s = $state(0);
  listening = $state<Listening>('after');
  matched = $state(true);
  monitor = $state<MonitorName>('full range');
  /** The two steps whose orders are compared. */
  order = $state.raw<Order | null>(null);
  header = $state.raw<BlockHeader | null>(null);
  /** What sounds at this moment, and where: for what is painted in every frame. Nothing is told of its changes. */
  live: BlockHeader | null = null;
  private heardAt = { position_s: 0, frames: 0, energy: 0, underruns: 0, now: 0 };
  heardFrames = $state(0);
  heardEnergy = $state(0);
  underruns = $state(0);
  connected = $state(false);
  /** Whether the connection was lost, and is being sought. */
  lost = $state(false);
  readonly measuringScope = new Measuring({
    study: () => this.askStudy(),
    overview: () => this.askOverview(),
  });
  saving = $state(0);
  /** The steps whose loudness is being measured; until then the last match sounds. */
  measuring = $state.raw<string[]>([]);
  readonly notices = new Notices();
  readonly jobs = new Jobs({ ...api, sendFile }, this.notices);
  /** What is proposed after an import, until it is answered. */
  imported = $state.raw<ImportView | null>(null);

  private audition: Audition | null = null;
  /** As the server last told. */
  private told: Version | null = null;
  private readonly queue: EditQueue = new EditQueue(
    async (next) => {
      const told = this.told;
      if (!told) return;
      try {
        await this.changed(await api.edit(told.id, next, this.tab, told.revision));
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
  private silence = 0;
  private numbers = 0;
  private ordering = false;
  private columns = 800;
  private zoom: [number, number] = [0, 1];
  private painted = 0;
  /** Where it is to play from, if the playhead was set. */
  private cue_s: number | null = null;
  private overviewColumns = OVERVIEW_COLUMNS;

  // ---- what is open ----------------------------------------------------------------------------------------------

  // Derived, so that what hangs on a step is not told of edits of another: what stayed is the same object.
  readonly session: Session | null = $derived(this.version?.session ?? null);

  readonly strip: Strip | null = $derived(
    this.session?.strips.find((strip) => strip.id === this.stripId) ?? null,
  );

  /** The chosen step or lane, with what it stands in; null if it is the strip itself. */
  readonly found: Found | null = $derived(
    this.strip ? find(this.strip.path.steps, { stepId: this.stepId, laneId: this.laneId }) : null,
  );

  readonly step: Step | null = $derived(this.found?.step ?? null);

  /** The lane that is chosen itself. */
  readonly lane: Lane | null = $derived(this.stepId === null ? (this.found?.lane ?? null) : null);

  /** Where something new goes: behind the chosen step, at the end of the chosen lane, or of the path. */
  get place(): { lane_id: string | null; index: number } {
    const { found } = this;
    if (!found) return { lane_id: null, index: this.strip?.path.steps.length ?? 0 };
    const index = found.step ? found.index + 1 : found.siblings.length;
    return { lane_id: found.lane?.id ?? null, index };
  }

  /** Where sound goes and why it does not: silence, keys, latency. */
  readonly routing: Routing | null = $derived(this.version?.routing ?? null);

  /** Bars and beats. */
  readonly grid: Grid = $derived(this.session ?? { tempo_bpm: 120, beats_in_bar: 4, bar_one_s: 0 });

  stripNamed(id: string | null): string {
    return this.session?.strips.find((strip) => strip.id === id)?.name ?? 'nothing';
  }

  /** What is compared and measured, as the server is told. */
  get scope() {
    return { strip_id: this.stripId, step_id: this.step?.id ?? null, lane_id: this.lane?.id ?? null };
  }

  processor(kind: string): Processor | undefined {
    return this.processors.find((processor) => processor.kind === kind);
  }

  constructor() {
    frames.add(() => this.show());
  }

  /** wanted: the session that the address names. */
  async start(wanted: number | null = null): Promise<void> {
    await this.attempt(async () => {
      const [processors, settings, starts, all] = await Promise.all([
        api.processors(),
        api.settings(),
        api.pathStarts(),
        api.sessions(),
      ]);
      this.settings = settings;
      this.processors = processors;
      this.pathStarts = starts;
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
    this.stripId = strips.find((strip) => strip.id === kept?.strip)?.id ?? first.id;
    this.laneId = kept?.lane ?? null;
    this.stepId = kept?.step ?? (this.laneId ? null : (this.strip?.path.steps.at(-1)?.id ?? null));
    this.settle();
    const { sections } = version.session;
    const section = sections.find((candidate) => candidate.name === 'Chorus') ?? sections[1];
    const all = { start_s: 0, end_s: Math.min(version.length_s, 20), name: 'Start' };
    this.passage = kept?.passage ?? (section ? { ...section } : all);
    this.position_s = this.passage.start_s;
    this.listenTo(version);
    this.measure();
    this.jobs.open(id);
  }

  private listenTo({ id, session }: Version): void {
    this.audition?.close();
    this.stopped();
    this.audition = new Audition(id, this.tab, session.rate_hz, {
      opened: () => {
        const back = this.lost;
        this.connected = true;
        this.lost = false;
        this.tellAll();
        if (back) void this.goOn();
      },
      lost: (reason, final) => {
        this.connected = false;
        this.sounding = false;
        this.lost = !final;
        if (final) {
          this.playing = false;
          this.note(reason || 'The session cannot be opened any more; choose another.', 'error');
        }
      },
      message: (message) => {
        if (message.type === 'version') void this.refresh();
        else if (message.type === 'failed') {
          this.note(message.why, 'error');
          this.stopped();
        } else if (message.type === 'measuring') this.measuring = message.steps;
        else if (message.type === 'ended') this.stopped();
      },
      heard: (header, position_s, frames, underruns, energy) => {
        if (!this.playing) return;
        this.live = header;
        this.heardAt = { position_s, frames, energy, underruns, now: performance.now() };
        this.heardNow();
      },
    });
  }

  close(): void {
    this.audition?.close();
    this.audition = null;
    this.connected = this.lost = false;
    this.stopped();
    this.order = null;
    this.measuringScope.close();
    this.jobs.close();
    this.chosenStripIds = [];
    this.cue_s = null;
    this.overviewColumns = OVERVIEW_COLUMNS;
    this.measuring = [];
    this.version = this.told = null;
    this.queue.clear();
  }

  private take(version: Version): void {
    if (this.told?.id === version.id && version.revision < this.told.revision) return;
    const rate = this.told?.session.rate_hz;
    this.told = version;
    // The sound comes at another rate from now on.
    if (rate !== undefined && rate !== version.session.rate_hz) this.listenTo(version);
    this.preview();
  }

  /** Show what is on its way to the server as if it were there. */
  private preview(): void {
    this.saving = this.queue.left;
    if (!this.told) return;
    this.version = previewed(this.told, this.queue.edits);
    if (!this.strip) this.stripId = 'main';
    this.settle();
  }

  /** If what was chosen is gone, choose what is nearest. */
  private settle(): void {
    if ((this.stepId === null && this.laneId === null) || this.found) return;
    this.stepId = this.strip?.path.steps.at(-1)?.id ?? null;
    this.laneId = null;
  }

  /** Another tab changed the session. */
  private async refresh(): Promise<void> {
    const id = this.version?.id;
    if (id === undefined) return;
    await this.attempt(async () => {
      this.take(await api.open(id));
      this.tellScope();
      this.measuringScope.edited();
    });
  }

  /** The server is there again, the same or another one: what was on its way is sent, and what played plays on. */
  private async goOn(): Promise<void> {
    await this.refresh();
    this.away = true;
    this.queue.resume();
    await this.queue.settled;
    this.away = false;
    if (this.playing) void this.play(this.position_s);
  }

  // ---- edits -------------------------------------------------------------------------------------------------------

  /** Send an edit; resolves when it has been answered. part: the drag it belongs to (see `EditQueue`). */
  edit(edit: Edit, part: string | null = null): Promise<void> {
    const gesture = part ?? newId();
    const done = this.queue.add(edit, gesture);
    // What moves is heard as it is made, and stored after it.
    if (this.playing && edit.op === 'set')
      this.audition?.send({ type: 'move', values: edit.values, gesture, number: this.queue.number });
    this.measuringScope.edited();
    return done;
  }

  /** New values for one object of the session. */
  move(
    of: Owner,
    id: string | null,
    values: Record<string, SettingValue>,
    gesture: string | null = null,
  ): void {
    void this.edit(setOf(of, id, values), gesture);
  }

  /** What a value is: its label, unit, range and scale. */
  setting(of: Owner, name: string): Setting {
    const found = this.settings[of]?.find((candidate) => candidate.name === name);
    if (!found) throw new Error(`the server describes no ${name} of a ${of}`);
    return found;
  }

  private async changed(answer: VersionAnswer): Promise<void> {
    if (this.told?.id !== answer.id) return;
    // Another tab, or a measured match, came between: then the whole is asked for.
    const version = merged(this.told, answer);
    if (version) this.take(version);
    else await this.refresh();
    if (this.order && !this.ordering) this.setOrder(null);
    for (const text of answer.notices)
      this.note(text, 'note', { label: 'Undo', run: () => void this.undo() });
    this.tellScope();
    this.measuringScope.edited();
  }

  undo(): Promise<void> {
    return this.goInHistory(api.undo);
  }

  redo(): Promise<void> {
    return this.goInHistory(api.redo);
  }

  /** What is on its way comes first: the last edit made is the one that is undone. */
  private async goInHistory(way: typeof api.undo): Promise<void> {
    await this.queue.settled;
    const told = this.told;
    if (told) await this.attempt(async () => this.changed(await way(told.id, this.tab, told.revision)));
  }

  set(stepId: string, settings: Record<string, SettingValue>, gesture: string | null = null): void {
    this.move('step', stepId, settings, gesture);
  }

  async addStep(kind: string): Promise<void> {
    const strip = this.strip;
    if (!strip) return;
    const id = newId();
    await this.edit({ op: 'add_step', strip_id: strip.id, ...this.place, step: { id, kind, settings: {} } });
    this.choose(strip.id, id);
  }

  async removeStep(stepId: string): Promise<void> {
    const found = this.strip && find(this.strip.path.steps, { stepId, laneId: null });
    if (!found) return;
    const next = found.siblings[found.index + 1] ?? found.siblings[found.index - 1];
    await this.edit({ op: 'remove_step', step_id: stepId });
    if (this.stepId === stepId || !this.step)
      this.choose(this.stripId, next?.id ?? null, next ? null : (found.lane?.id ?? null));
  }

  bypass(step: Step): void {
    this.move('step', step.id, { bypass: !step.bypass });
  }

  // ---- choosing and listening --------------------------------------------------------------------------------------

  /** Add a step to those chosen together, or take it out; `through` adds all up to it. Only steps of one path go together. */
  select(stepId: string, through: boolean): void {
    const ids = (find(this.strip?.path.steps ?? [], { stepId, laneId: null })?.siblings ?? []).map(
      (step) => step.id,
    );
    const from = (this.selected.length ? this.selected : this.stepId ? [this.stepId] : []).filter((id) =>
      ids.includes(id),
    );
    if (through && from.length) {
      const [a, b] = [ids.indexOf(this.stepId ?? stepId), ids.indexOf(stepId)];
      this.selected = ids.slice(Math.min(a, b), Math.max(a, b) + 1);
    } else {
      this.selected = from.includes(stepId) ? from.filter((id) => id !== stepId) : [...from, stepId];
    }
    if (this.selected.length === 1) this.choose(this.stripId, this.selected[0]!);
  }

  /** Add a strip to those chosen together, or take it out; `through` adds all up to it, in the order of `ids`. */
  chooseTogether(stripId: string, through: boolean, ids: string[]): void {
    const from = this.chosenStripIds.length ? this.chosenStripIds : [this.stripId];
    let next: string[];
    if (through) {
      const [a, b] = [ids.indexOf(this.stripId), ids.indexOf(stripId)];
      next = ids.slice(Math.min(a, b), Math.max(a, b) + 1);
    } else next = from.includes(stripId) ? from.filter((id) => id !== stripId) : [...from, stripId];
    this.chosenStripIds = next;
    if (!through && next.length) this.choose(next.at(-1)!);
    this.chosenStripIds = next.length > 1 ? next : [];
  }

  choose(stripId: string, stepId: string | null | undefined = undefined, laneId: string | null = null): void {
    const strip = this.session?.strips.find((candidate) => candidate.id === stripId);
    if (!strip) return;
    this.selected = [];
    if (!this.chosenStripIds.includes(stripId)) this.chosenStripIds = [];
    const moved = stripId !== this.stripId;
    this.stripId = stripId;
    this.stepId = stepId === undefined ? (strip.path.steps.at(-1)?.id ?? null) : stepId;
    this.laneId = this.stepId === null ? laneId : null;
    this.settle();
    this.measuringScope.clear(moved);
    this.keepView();
    this.tellScope();
    const unheard =
      (this.listening === 'key' && !(this.step && this.processor(this.step.kind)?.listens)) ||
      (this.listening === 'solo lane' && !this.found?.lane);
    if (unheard) this.listen('after');
    this.measure();
  }

  chooseOnPath({ stepId, laneId }: Chosen): void {
    this.choose(this.stripId, stepId, laneId);
  }

  setPassage(passage: Passage): void {
    this.passage = passage;
    this.cue_s = null;
    if (!this.playing) this.position_s = passage.start_s;
    this.zoom = [0, 1];
    this.keepView();
    this.tellPassage();
    this.measure();
  }

  private keepView(): void {
    if (this.version)
      remember(`view.${this.version.id}`, {
        strip: this.stripId,
        step: this.stepId,
        lane: this.laneId,
        passage: this.passage,
      });
  }

  async play(
    position_s: number = this.cue_s ?? (this.loop ? this.passage.start_s : this.position_s),
  ): Promise<void> {
    if (!this.audition) return;
    this.cue_s = null;
    this.header = null;
    this.position_s = position_s;
    if (!this.connected) {
      this.note('The server cannot be reached; press Play again when it is back.', 'error');
      return;
    }
    this.playing = true;
    this.audition.send({ type: 'play', position_s });
    await this.audition.wake();
  }

  stop(): void {
    this.audition?.send({ type: 'stop' });
    this.stopped();
  }

  private stopped(): void {
    clearTimeout(this.silence);
    this.playing = this.sounding = false;
    this.header = this.live = null;
    frames.run(false);
  }

  /** Show the figures of what sounds, with the meters, so that the page is painted once for both. */
  private show(): void {
    this.painted += 1;
    if (!this.live || this.painted % SHOW_EVERY) return;
    this.header = this.live;
    this.position_s = this.heardAt.position_s;
    this.heardFrames = this.heardAt.frames;
    this.heardEnergy = this.heardAt.energy;
    this.underruns = this.heardAt.underruns;
  }

  /** Where the sound is, in seconds. */
  heardPosition(): number {
    if (!this.sounding) return this.position_s;
    const since = (performance.now() - this.heardAt.now) / 1000;
    return this.heardAt.position_s + Math.min(since, MAX_GUESS_S);
  }

  /** Sound is heard; when none has been for a while, the page does not say so any longer. */
  private heardNow(): void {
    if (!this.sounding) {
      this.sounding = true;
      frames.run(true);
    }
    clearTimeout(this.silence);
    this.silence = window.setTimeout(() => (this.sounding = false), SILENT_MS);
  }

  toggle(): void {
    if (this.playing) this.stop();
    else void this.play();
  }

  seek(position_s: number): void {
    if (this.playing) void this.play(position_s);
    else this.position_s = this.cue_s = position_s;
  }

  setLoop(on: boolean): void {
    this.loop = on;
    this.tellPassage();
  }

  listen(listening: Listening): void {
    this.listening = listening;
    this.audition?.send({ type: 'listen', listening });
  }

  /** Hear what the detector of the step hears, or go back to after. */
  hearKey(): void {
    const listens = this.step ? this.processor(this.step.kind)?.listens : false;
    if (!listens) this.note('This step has no detector whose key could be heard.');
    else this.listen(this.listening === 'key' ? 'after' : 'key');
  }

  /** Hear the lane alone that is chosen or that the step stands in, or all of them again. Nothing is edited. */
  hearOnly(): void {
    if (!this.found?.lane) this.note('Choose a lane, or a step in one, to hear it alone.');
    else this.listen(this.listening === 'solo lane' ? 'after' : 'solo lane');
  }

  setMatched(on: boolean): void {
    this.matched = on;
    this.audition?.send({ type: 'matched', on });
  }

  /** Another order of two steps, to be heard as loud as the one before. */
  async reorder(edit: Edit, order: Order): Promise<void> {
    this.ordering = true;
    this.setOrder(order);
    await this.edit(edit);
    this.ordering = false;
  }

  private setOrder(order: Order | null): void {
    const told = order ?? { ...this.order!, gain_db: 0 };
    this.order = order;
    this.audition?.send({ type: 'order', strip_id: told.strip_id, gain_db: told.gain_db });
  }

  setMonitor(monitor: MonitorName): void {
    this.monitor = monitor;
    this.audition?.send({ type: 'monitor', monitor });
  }

  private tellAll(): void {
    this.tellPassage();
    this.tellScope();
    this.listen(this.listening);
    this.setMatched(this.matched);
    if (this.order) this.setOrder(this.order);
    this.setMonitor(this.monitor);
  }

  private tellPassage(): void {
    const { start_s, end_s } = this.passage;
    this.audition?.send({ type: 'passage', start_s, end_s, loop: this.loop });
  }

  private tellScope(): void {
    this.audition?.send({ type: 'scope', ...this.scope });
  }

  // ---- measuring ---------------------------------------------------------------------------------------------------

  setColumns(columns: number): void {
    const wanted = Math.max(64, Math.min(2048, Math.round(columns)));
    if (wanted === this.columns) return;
    this.columns = wanted;
    this.measure(true);
  }

  /** Draw only a part of the passage, given as shares of it. */
  setZoom(from: number, to: number): void {
    this.zoom = [Math.max(0, from), Math.min(1, to)];
    this.measure(true);
  }

  /** More columns of the waveform, where only one part in `zoom` of the session is seen. */
  setOverviewColumns(zoom: number): void {
    const wanted = Math.min(
      MAX_OVERVIEW_COLUMNS,
      OVERVIEW_COLUMNS * 2 ** Math.ceil(Math.log2(Math.max(1, zoom))),
    );
    if (wanted === this.overviewColumns) return;
    this.overviewColumns = wanted;
    this.measure(true);
  }

  get zoomed(): readonly [number, number] {
    return this.zoom;
  }

  /** Questions are numbered, as they may reach the server in another order than they were asked in. */
  nextNumber(): number {
    return (this.numbers += 1);
  }

  get study() {
    return this.measuringScope.study;
  }

  get overview() {
    return this.measuringScope.overview;
  }

  /** Ask for the ledger and the pictures of the scope at once. */
  measure(nearer = false): void {
    if (this.version) this.measuringScope.looked(nearer);
  }

  /** Older questions are superseded on the server. */
  private async askStudy() {
    const version = this.version;
    if (!version) return null;
    const { start_s, end_s } = this.passage;
    const question = {
      tab: this.tab,
      number: this.nextNumber(),
      ...this.scope,
      start_s,
      end_s,
      columns: this.columns,
      zoom_start: this.zoom[0],
      zoom_end: this.zoom[1],
    };
    return (await this.attempt(() => api.studyScope(version.id, question), true)) ?? null;
  }

  private async askOverview() {
    const version = this.version;
    if (!version) return null;
    const question = {
      tab: this.tab,
      number: this.nextNumber(),
      strip_id: this.stripId,
      columns: this.overviewColumns,
    };
    return (await this.attempt(() => api.studyOverview(version.id, question), true)) ?? null;
  }

  // ---- files ------------------------------------------------------------------------------------------------------

  /** Files become tracks; then the passage is what is to be heard of them, and what belongs together is proposed. */
  async importFiles(
    files: Iterable<File>,
    order: 'name' | 'given' = 'name',
    takesRate: boolean = true,
  ): Promise<void> {
    const fresh = !this.session?.strips.some((strip) => strip.media_id !== null);
    const view = await this.jobs.import([...files], order, fresh && takesRate);
    if (!view) return;
    await this.queue.settled;
    await this.refresh();
    if (fresh && view.passage_s) {
      const [start_s, end_s] = view.passage_s;
      const whole = start_s === 0 && end_s >= (this.version?.length_s ?? 0) - 0.01;
      this.setPassage({ start_s, end_s, name: whole ? 'Whole song' : 'Loudest 8 bars' });
    }
    if (view.strip_ids[0]) this.choose(view.strip_ids[0]);
    if (view.proposals.length || view.notes.length) this.imported = view;
  }

  async export(
    stripIds: string[],
    format: 'wav16' | 'wav24' | 'wav32f' | 'flac16' | 'flac24',
    passage: boolean,
    tail: boolean,
  ): Promise<void> {
    const id = this.version?.id;
    if (id === undefined) return;
    await this.attempt(async () => {
      const span = passage ? { start_s: this.passage.start_s, end_s: this.passage.end_s } : {};
      await api.exports(id, { strip_ids: stripIds, format, tail, ...span });
      await this.jobs.poll();
    });
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
