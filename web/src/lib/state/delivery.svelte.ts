/** How the open session is delivered: what goes out, what the check found, and listening to what a decoder gives back. */
import {
  api,
  type CheckedFormat,
  type CheckView,
  type Delivery,
  type DeliveryOptions,
  type FileNames,
  type FormatView,
  type JobView,
} from '../api/client';
import { Rest } from './rest';
import { workspace } from './workspace.svelte';

/** What is heard: the session as ever, the master as it was checked, a format decoded, or what that took away. */
export type Heard = 'session' | 'master' | 'decoded' | 'difference';
/** Names are asked for once typing rests. */
const REST_MS = 150;
/** How long it takes is measured by rendering a little, once the hands rest. */
const TIME_REST_MS = 800;
/** An over is played from a little before it. */
const LEAD_S = 1;

class DeliveryState {
  options = $state.raw<DeliveryOptions | null>(null);
  names = $state.raw<FileNames | null>(null);
  /** About how long it will take; null while that is measured. */
  expected_s = $state<number | null>(null);
  private kept = $state.raw<{ session: number; view: CheckView | null } | null>(null);
  /** Which format is heard, and whose overs are listed. */
  chosen = $state('');
  to = $state<Heard>('session');
  report = $state(true);
  /** Files dropped to be put through a path. */
  dropped = $state.raw<File[]>([]);
  /** Work under way. */
  running = $state<'check' | 'ceiling' | null>(null);
  private readonly rest = new Rest();
  private readonly timeRest = new Rest();

  readonly setup: Delivery | null = $derived(workspace.session?.delivery ?? null);
  readonly check = $derived(this.kept && this.kept.session === workspace.version?.id ? this.kept.view : null);
  readonly checked = $derived(this.check?.checked ?? null);
  /** The format that is looked at. */
  readonly format: CheckedFormat | null = $derived(
    this.checked?.formats.find(({ format }) => format === this.chosen) ?? this.checked?.formats[0] ?? null,
  );
  /** The strips that are there of those chosen. */
  readonly stripIds = $derived(
    (this.setup?.strip_ids ?? []).filter((id) => workspace.session?.strips.some((strip) => strip.id === id)),
  );
  /** The strip that is checked: the main, if it goes out. */
  readonly master = $derived(
    this.stripIds.includes('main') || !this.stripIds.length ? 'main' : this.stripIds[0]!,
  );

  async open(): Promise<void> {
    this.options ??= (await workspace.attempt(() => api.deliveryOptions(), true)) ?? null;
    await this.refresh();
  }

  formatNamed(name: string): FormatView | undefined {
    return this.options?.formats.find((format) => format.name === name);
  }

  label(name: string): string {
    return this.formatNamed(name)?.label ?? name;
  }

  set(values: Partial<Delivery>, gesture: string | null = null): void {
    void workspace.edit({ op: 'set_delivery', values }, gesture);
  }

  /** The passage, where that is what goes out. */
  private span() {
    const { start_s, end_s } = workspace.listening.passage;
    return this.setup?.extent === 'passage' ? { start_s, end_s } : {};
  }

  /** Ask for the names of the files soon. */
  soonNames(): void {
    this.rest.after(REST_MS, () => this.askNames());
  }

  private async askNames(): Promise<void> {
    const id = workspace.version?.id;
    const { setup } = this;
    if (id === undefined || !setup) return;
    if (!this.stripIds.length) {
      this.names = { names: [], bytes: [], muted: [], problem: 'Choose at least one strip.' };
      return;
    }
    this.expected_s = null;
    const names = await workspace.attempt(() => api.deliveryNames(id, this.request(setup)), true);
    if (!names || id !== workspace.version?.id) return;
    this.names = names;
    this.timeRest.after(TIME_REST_MS, () => this.askTime());
  }

  private async askTime(): Promise<void> {
    const id = workspace.version?.id;
    const { setup } = this;
    if (id === undefined || !setup || !this.stripIds.length || workspace.listening.playing) return;
    const question = {
      ...this.request(setup),
      tab: workspace.tab,
      number: workspace.measuring.nextNumber(),
    };
    const answer = await workspace.attempt(() => api.deliveryTime(id, question), true);
    if (answer && id === workspace.version?.id) this.expected_s = answer.seconds;
  }

  /** What is asked for: the strips that are there. */
  private request(setup: Delivery) {
    return { delivery: { ...setup, strip_ids: this.stripIds }, ...this.span(), report: this.report };
  }

  async deliver(): Promise<void> {
    const id = workspace.version?.id;
    const { setup } = this;
    if (id === undefined || !setup || !this.stripIds.length) return;
    await workspace.attempt(async () => {
      await api.deliver(id, this.request(setup));
      await workspace.jobs.poll();
    });
  }

  // ---- check ---------------------------------------------------------------------------------------------------------

  /** What was found last; also after an edit, which may leave it out of date. */
  async refresh(): Promise<void> {
    const id = workspace.version?.id;
    if (id === undefined) return;
    const view = await workspace.attempt(() => api.deliveryCheck(id), true);
    if (view === undefined || id !== workspace.version?.id) return;
    this.kept = { session: id, view };
    if (!view?.listen) this.to = 'session';
  }

  runCheck(): Promise<void> {
    return this.run('check', (id) => api.checkDelivery(id, this.question()));
  }

  findCeiling(): Promise<void> {
    return this.run('ceiling', (id) => api.findCeiling(id, this.question()));
  }

  private question() {
    return { strip_id: this.master, ...this.span() };
  }

  private async run(what: 'check' | 'ceiling', start: (id: number) => Promise<JobView>): Promise<void> {
    const id = workspace.version?.id;
    if (id === undefined || this.running) return;
    this.running = what;
    const job = await workspace.attempt(() => start(id));
    if (job) {
      const ended = await workspace.jobs.ended(job);
      // The sound that was listened to is another one now.
      if (what === 'check' && ended.state === 'done') this.to = 'session';
    }
    this.running = null;
    await this.refresh();
  }

  /** The safe ceiling, or the level of the strip, becomes what is set. */
  applyCeiling(): void {
    const found = this.check?.ceilings;
    if (!found || found.value === null) return;
    if (found.step_id) workspace.move('step', found.step_id, { ceiling_db: found.value });
    else workspace.move('strip', this.checked?.strip_id ?? this.master, { level_db: found.value });
  }

  // ---- listening -----------------------------------------------------------------------------------------------------

  get canListen(): boolean {
    return this.check?.listen ?? false;
  }

  /** Hear something of the check, or the session again. */
  async hear(what: Heard, format: string | null = null): Promise<void> {
    const id = workspace.version?.id;
    if (id === undefined || (what !== 'session' && !this.canListen)) return;
    if (format !== null) this.chosen = format;
    if (what === 'session') {
      if (this.to !== 'session') await workspace.attempt(() => api.leaveDelivery(id, workspace.tab), true);
      this.to = 'session';
      return;
    }
    if (this.to === 'session') {
      if (!(await workspace.attempt(() => api.listenToDelivery(id, workspace.tab)))) return;
    }
    this.to = what;
    this.tell();
  }

  /** Say again what is heard: after the connection was lost nothing of it is known there. */
  tell(): void {
    if (this.to === 'session') return;
    const name = this.format?.format ?? '';
    const letter = { master: 'master', decoded: name, difference: `${name} difference` }[this.to];
    workspace.listening.send({ type: 'letter', letter });
  }

  /** Another format; heard at once where one is. */
  choose(format: string): void {
    this.chosen = format;
    this.tell();
  }

  /** The nth format of the check. */
  chooseNumber(number: number): void {
    const name = this.checked?.formats[number - 1]?.format;
    if (name) this.choose(name);
  }

  /** Play a place, as the format that is looked at gives it. */
  async playAt(at_s: number): Promise<void> {
    if (this.to === 'session') await this.hear('decoded');
    await workspace.listening.play(Math.max(0, at_s - LEAD_S));
  }

  leave(): void {
    this.rest.stop();
    this.timeRest.stop();
    void this.hear('session');
  }
}

export const delivery = new DeliveryState();
