/** What is listened to: place, passage, and how; what comes back of it, for the meters. */
import type { Audition, Listener } from '../audio/audition';
import type { BlockHeader, ServerMessage } from '../audio/protocol';
import { frames } from '../draw/frames';

export type Listening = 'before' | 'after' | 'difference' | 'key' | 'solo lane';
export type MonitorName = 'full range' | 'small speaker' | 'mono' | 'dim';
export interface Passage {
  start_s: number;
  end_s: number;
  name: string;
}
/** Two steps of a strip that were swapped, and the gain by which this order is as loud as the other. */
export interface Order {
  strip_id: string;
  step_id: string;
  other_id: string;
  gain_db: number;
}
/** Of the slots of a step, a lane or a strip's path. */
export interface SlotGains {
  of: 'step' | 'lane' | 'strip';
  id: string;
  gains_db: Record<string, number>;
}
export type Connection = Pick<Audition, 'send' | 'wake' | 'close'>;
export interface Scope {
  strip_id: string;
  step_id: string | null;
  lane_id: string | null;
}
/** What others do about it. */
export interface Around {
  scope: () => Scope;
  note: (text: string, kind?: 'note' | 'error') => void;
  message: (message: ServerMessage) => void;
  /** The connection is back after it was lost. */
  back: () => void;
  /** Another passage is listened to. */
  passage: () => void;
}

/** Figures change in every second frame, so that they can be read. */
const SHOW_EVERY = 2;
/** A place is not guessed further than this beyond what was told. */
export const MAX_GUESS_S = 0.1;
/** Without anything heard for so long, it does not sound. */
const SILENT_MS = 600;

export class Listen {
  passage = $state<Passage>({ start_s: 0, end_s: 10, name: 'Start' });
  loop = $state(true);
  /** Whether it is to play; whether anything came to be heard of late. */
  playing = $state(false);
  sounding = $state(false);
  position_s = $state(0);
  to = $state<Listening>('after');
  matched = $state(true);
  monitor = $state<MonitorName>('full range');
  /** The gains by which the slots of a scope are equally loud. */
  private slots: SlotGains | null = null;
  /** The two steps whose orders are compared. */
  order = $state.raw<Order | null>(null);
  header = $state.raw<BlockHeader | null>(null);
  /** What sounds at this moment, and where: for what is painted in every frame. Nothing is told of its changes. */
  live: BlockHeader | null = null;
  heardFrames = $state(0);
  heardEnergy = $state(0);
  underruns = $state(0);
  connected = $state(false);
  /** Whether the connection was lost, and is being sought. */
  lost = $state(false);

  private connection: Connection | null = null;
  private heardAt = { position_s: 0, frames: 0, energy: 0, underruns: 0, now: 0 };
  private silence: ReturnType<typeof setTimeout> | undefined;
  private painted = 0;
  /** Where it is to play from, if the playhead was set. */
  private cue_s: number | null = null;

  constructor(private readonly around: Around) {
    frames.add(() => this.show());
  }

  // ---- the connection ----------------------------------------------------------------------------------------------

  /** connect: makes the connection of a session that is to be listened to. */
  open(connect: (listener: Listener) => Connection): void {
    this.connection?.close();
    this.stopped();
    this.connection = connect({
      opened: () => {
        const back = this.lost;
        this.connected = true;
        this.lost = false;
        this.tellAll();
        if (back) this.around.back();
      },
      lost: (reason, final) => {
        this.connected = false;
        this.sounding = false;
        this.lost = !final;
        if (final) {
          this.playing = false;
          this.around.note(reason || 'The session cannot be opened any more; choose another.', 'error');
        }
      },
      message: (message) => {
        if (message.type === 'ended') this.stopped();
        else if (message.type === 'failed') {
          this.around.note(message.why, 'error');
          this.stopped();
        } else this.around.message(message);
      },
      heard: (header, position_s, heard, underruns, energy) => {
        if (!this.playing) return;
        this.live = header;
        this.heardAt = { position_s, frames: heard, energy, underruns, now: performance.now() };
        this.heardNow();
      },
    });
  }

  close(): void {
    this.connection?.close();
    this.connection = null;
    this.connected = this.lost = false;
    this.order = null;
    this.slots = null;
    this.cue_s = null;
    this.stopped();
  }

  send(message: Record<string, unknown>): void {
    this.connection?.send(message);
  }

  // ---- playing -----------------------------------------------------------------------------------------------------

  async play(
    position_s: number = this.cue_s ?? (this.loop ? this.passage.start_s : this.position_s),
  ): Promise<void> {
    if (!this.connection) return;
    this.cue_s = null;
    this.header = null;
    this.position_s = position_s;
    if (!this.connected) {
      this.around.note('The server cannot be reached; press Play again when it is back.', 'error');
      return;
    }
    this.playing = true;
    this.send({ type: 'play', position_s });
    await this.connection.wake();
  }

  stop(): void {
    this.send({ type: 'stop' });
    this.stopped();
  }

  private stopped(): void {
    clearTimeout(this.silence);
    this.playing = this.sounding = false;
    this.header = this.live = null;
    frames.run(false);
  }

  toggle(): void {
    if (this.playing) this.stop();
    else void this.play();
  }

  seek(position_s: number): void {
    if (this.playing) void this.play(position_s);
    else this.position_s = this.cue_s = position_s;
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
    this.silence = setTimeout(() => (this.sounding = false), SILENT_MS);
  }

  // ---- what and how ------------------------------------------------------------------------------------------------

  setPassage(passage: Passage): void {
    this.passage = passage;
    this.cue_s = null;
    if (!this.playing) this.position_s = passage.start_s;
    this.tellPassage();
    this.around.passage();
  }

  setLoop(on: boolean): void {
    this.loop = on;
    this.tellPassage();
  }

  listenTo(what: Listening): void {
    this.to = what;
    this.send({ type: 'listen', listening: what });
  }

  setMatched(on: boolean): void {
    this.matched = on;
    this.send({ type: 'matched', on });
  }

  setMonitor(monitor: MonitorName): void {
    this.monitor = monitor;
    this.send({ type: 'monitor', monitor });
  }

  /** Two orders are compared from now on, or with null no longer. */
  setOrder(order: Order | null): void {
    const told = order ?? (this.order && { ...this.order, gain_db: 0 });
    this.order = order;
    if (told) this.send({ type: 'order', strip_id: told.strip_id, gain_db: told.gain_db });
  }

  /** From now on the slot that is on sounds by its gain, where matched is on. */
  setSlots(slots: SlotGains): void {
    this.slots = slots;
    this.send({ type: 'slots', ...slots });
  }

  tellScope(): void {
    this.send({ type: 'scope', ...this.around.scope() });
  }

  private tellPassage(): void {
    const { start_s, end_s } = this.passage;
    this.send({ type: 'passage', start_s, end_s, loop: this.loop });
  }

  private tellAll(): void {
    this.tellPassage();
    this.tellScope();
    this.listenTo(this.to);
    this.setMatched(this.matched);
    if (this.order) this.setOrder(this.order);
    if (this.slots) this.setSlots(this.slots);
    this.setMonitor(this.monitor);
  }
}
