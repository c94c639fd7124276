/** Values that move over time: their courses, the lanes that show them, what a hand's move means, and recording by hand. */
import {
  newId,
  type Breakpoint,
  type Edit,
  type Envelope,
  type MovingValue,
  type Section,
  type Setting,
} from '../api/client';
import { frames } from '../draw/frames';
import { everyStep } from '../path/tree';
import {
  baseFor,
  canMove,
  distance,
  envelopeOf,
  isSwitch,
  keyOf,
  leversOf,
  sectionAt,
  sectionOf,
  valueAt,
  type Address,
} from './course';
import { setOf } from './moves';
import { MAX_GUESS_S } from './listening.svelte';
import { workspace } from './workspace.svelte';

/** A hand's moves are taken no more often than this, in seconds. */
const SAMPLE_S = 0.03;
/** Arrow keys and the wheel let go after so long without a move. */
const LET_GO_MS = 700;

/** What a switch is, as a scale. */
const SWITCH: Pick<Setting, 'minimum' | 'maximum' | 'scale'> = { minimum: 0, maximum: 1, scale: 'linear' };

interface Recording {
  address: Address;
  samples: [number, number][];
  gesture: string;
  value: number;
  /** How far from the moves the envelope may lie, as a share of the scale: what a hand can mean. */
  tolerance: number;
}

/** The page's share of that: so many pixels of the slider, and never less than so much of the scale. */
const STEADY_PX = 2;
const STEADY = 0.01;
const MAX_TOLERANCE = 0.2;
function toleranceNow(): number {
  const width = document.querySelector('[data-dragging]')?.getBoundingClientRect().width ?? 0;
  return Math.min(MAX_TOLERANCE, Math.max(STEADY, width > 0 ? STEADY_PX / width : 0));
}

class Automation {
  /** The lanes that are open, by the keys of their values. */
  lanes = $state<Address[]>([]);
  /** Lanes folded to a line, by their keys. */
  folded = $state<string[]>([]);
  /** Whether the list of all is open. */
  listed = $state(false);
  /** Whose menu is open. */
  menu = $state<Address | null>(null);
  /** What is armed, by key; whether it goes on after the hand lets go. */
  armed = $state<string[]>([]);
  latch = $state(false);
  recording = $state.raw<Recording | null>(null);
  /** The lever whose table is open. */
  lever = $state<string | null>(null);
  private began: { key: string; gesture: string; from: number } | null = null;
  private letGo: ReturnType<typeof setTimeout> | undefined;

  readonly moving: Record<string, MovingValue> = $derived(
    Object.fromEntries((workspace.version?.moving ?? []).map((moved) => [keyOf(moved), moved])),
  );

  constructor() {
    frames.add(() => this.sample());
    workspace.divert = (address, value, gesture) => {
      const moves = this.of(address) !== null || this.armed.includes(keyOf(address));
      if (moves) this.change(address, value, gesture);
      return moves;
    };
  }

  of(address: Address): MovingValue | null {
    return this.moving[keyOf(address)] ?? null;
  }

  envelope(address: Address): Envelope | null {
    return workspace.session ? envelopeOf(workspace.session, address) : null;
  }

  /** What a value is: its label, unit, range and scale. */
  setting(address: Address): Setting | null {
    const { of, id, name } = address;
    if (of === 'step') {
      const step = workspace.stepById(id ?? '');
      const own =
        step &&
        workspace.described.processor(step.kind)?.settings.find((one) => one.name === name.split('.')[0]);
      if (own && name.includes('.')) {
        const label = `Divider ${Number(name.split('.')[1]) + 1}`;
        return {
          ...own,
          name,
          label,
          type: 'number',
          scale: 'log',
          unit: 'Hz',
          moves: 'glides',
        };
      }
      if (own) return own;
    }
    return workspace.described.settings[of]?.find((one) => one.name === name) ?? null;
  }

  /** Of what kind of scale its values are. */
  scale(address: Address): Setting | null {
    const setting = this.setting(address);
    return setting && isSwitch(address) ? { ...setting, ...SWITCH } : setting;
  }

  canMove(address: Address): boolean {
    const setting = this.setting(address);
    return setting !== null && canMove(address, setting);
  }

  // ---- what holds now ------------------------------------------------------------------------------------------------------

  /** The section whose values a hand changes: that under the playhead while it plays, else that of the passage or the playhead. */
  get section(): Section | null {
    const sections = workspace.session?.sections ?? [];
    const { passage, sounding, position_s } = workspace.listening;
    if (sounding) return sectionAt(sections, position_s);
    return sectionOf(sections, passage.start_s, passage.end_s) ?? sectionAt(sections, position_s);
  }

  /** Where a value is read while nothing plays: at the playhead, if that is in the passage. */
  get place_s(): number {
    const { passage, sounding, position_s } = workspace.listening;
    if (sounding || (position_s >= passage.start_s && position_s < passage.end_s)) return position_s;
    return passage.start_s;
  }

  /** What a value amounts to at a place. */
  valueAt(moved: MovingValue, at_s: number): number {
    const setting = this.scale(moved);
    return moved.times_s.length && setting ? valueAt(moved, setting, at_s) : moved.still;
  }

  /** What a rule or a picture shows of a value while nothing plays: that of the section it stands in, or the course's. stored: the
   * document's. */
  shown(address: Address, stored: number): number {
    const moved = this.of(address);
    if (!moved) return stored;
    const section = moved.on && moved.face === 'sections' ? this.section : null;
    if (section && !workspace.listening.sounding)
      return this.envelope(address)?.sections[section.id] ?? moved.still;
    return this.valueAt(moved, this.place_s);
  }

  /** What moves it, in a word: the section's name, `envelope`, or the levers' names. */
  mover(address: Address): string | null {
    if (this.armed.includes(keyOf(address))) return 'armed';
    const moved = this.of(address);
    if (!moved) return null;
    if (moved.on && moved.face === 'sections') return this.section?.name ?? 'no section';
    if (moved.on && moved.face) return 'envelope';
    if (moved.face && !moved.levers.length) return 'envelope off';
    return moved.levers.map((lever) => lever.name).join(', ') || null;
  }

  // ---- a hand's move -------------------------------------------------------------------------------------------------------

  /** A value moved by hand: what that means depends on what moves it. */
  change(address: Address, value: number, gesture: string | null): void {
    const key = keyOf(address);
    const moved = this.of(address);
    const setting = this.scale(address);
    if (this.armed.includes(key) && workspace.listening.sounding) return this.record(address, value);
    if (!moved || !setting)
      return void workspace.edit(setOf(address.of, address.id, { [address.name]: value }), gesture);
    if (moved.on && moved.face === 'sections') {
      const section = this.section;
      if (section) return void this.edit(address, { sections: { [section.id]: value } }, gesture);
    } else if (moved.on && moved.face === 'points') {
      const part = gesture ?? newId();
      if (this.began?.key !== key || this.began.gesture !== part)
        this.began = { key, gesture: part, from: this.valueAt(moved, this.place_s) };
      const by = distance(this.began.from, value, setting);
      return void workspace.edit({ op: 'shift_envelope', ...address, by }, part);
    }
    const base = moved.levers.length
      ? baseFor(moved.base, this.valueAt(moved, this.place_s), value, setting)
      : value;
    void workspace.edit(setOf(address.of, address.id, { [address.name]: base }), gesture);
  }

  /** Points, section values, the ramp or the bypass of an envelope. */
  edit(
    address: Address,
    change: Omit<Extract<Edit, { op: 'change_envelope' }>, 'op' | 'of' | 'id' | 'name'>,
    gesture: string | null = null,
  ): Promise<void> {
    return workspace.edit({ op: 'change_envelope', ...plain(address), ...change }, gesture);
  }

  put(address: Address, point: Breakpoint, gesture: string | null = null): Promise<void> {
    return this.edit(address, { put_points: [point] }, gesture);
  }

  remove(address: Address, ids: string[]): Promise<void> {
    return this.edit(address, { remove: ids });
  }

  clear(address: Address): void {
    void workspace.edit({ op: 'set_envelope', ...plain(address), envelope: null });
    this.disarm(address);
  }

  turn(address: Address, to: 'points' | 'sections'): Promise<void> {
    return workspace.edit({ op: 'turn_envelope', ...plain(address), to, seed: newId() });
  }

  /** A lane for a value; where nothing moves it yet it gets its first point, so that there is something to take hold of. */
  async draw(address: Address): Promise<void> {
    if (!this.isOpen(address)) this.lanes.push(plain(address));
    if (this.envelope(address) || this.of(address)?.times_s.length) return;
    const at_s = workspace.listening.passage.start_s;
    const value = this.present(address);
    if (value !== null)
      await this.put(address, {
        id: newId(),
        at_s,
        value,
        shape: isSwitch(address) ? 'hold' : 'linear',
        bend: 0,
      });
  }

  /** What the document says of a value, with its levers. */
  present(address: Address): number | null {
    const moved = this.of(address);
    if (moved) return moved.still;
    const session = workspace.session;
    if (!session) return null;
    const value = documentValue(address);
    return typeof value === 'boolean' ? Number(value) : typeof value === 'number' ? value : null;
  }

  isOpen(address: Address): boolean {
    return this.lanes.some((lane) => keyOf(lane) === keyOf(address));
  }

  /** Only its name is shown, or all of it again. */
  fold(address: Address, hide: boolean): void {
    const key = keyOf(address);
    this.folded = this.folded.filter((other) => other !== key);
    if (hide) this.folded.push(key);
  }

  close(address: Address): void {
    this.lanes = this.lanes.filter((lane) => keyOf(lane) !== keyOf(address));
  }

  // ---- recording by hand ---------------------------------------------------------------------------------------------------

  toggleArmed(address: Address): void {
    const key = keyOf(address);
    if (this.armed.includes(key)) return this.disarm(address);
    this.armed.push(key);
    if (!this.isOpen(address)) this.lanes.push(plain(address));
  }

  private disarm(address: Address): void {
    const key = keyOf(address);
    if (this.recording && keyOf(this.recording.address) === key) this.finish();
    this.armed = this.armed.filter((one) => one !== key);
  }

  /** The hand is on the control, or has let go of it. */
  hold(address: Address, on: boolean): void {
    if (on || !this.recording || keyOf(this.recording.address) !== keyOf(address)) return;
    if (!this.latch) this.finish();
  }

  private record(address: Address, value: number): void {
    if (this.recording && keyOf(this.recording.address) !== keyOf(address)) this.finish();
    this.recording ??= {
      address: plain(address),
      samples: [],
      gesture: newId(),
      value,
      tolerance: toleranceNow(),
    };
    this.recording.value = value;
    const { gesture } = this.recording;
    const moved = this.of(address);
    const setting = this.scale(address);
    // The envelope will stand above the levers; until it is written they add to what is heard.
    const base = moved?.levers.length && setting ? baseFor(moved.base, moved.still, value, setting) : value;
    workspace.hear([{ ...plain(address), value: base }], gesture);
    this.take();
    clearTimeout(this.letGo);
    this.letGo = setTimeout(() => {
      // Keys and the wheel have no release; a drag has, and goes on however long it rests.
      if (this.recording && !this.latch && !document.querySelector('[data-dragging]')) this.finish();
    }, LET_GO_MS);
  }

  /** While it plays on: what is dragged goes on being written. */
  private sample(): void {
    if (!this.recording) return;
    // A gap in the sound is not the end of the move.
    if (!workspace.listening.playing) return this.finish();
    this.take();
  }

  private take(): void {
    const { recording } = this;
    if (!recording) return;
    const last = recording.samples.at(-1);
    const heard_s = Math.max(0, workspace.listening.heardPosition());
    // The place is guessed between two reports, and may have been guessed too far: only more than that is a loop begun anew.
    if (last && heard_s < last[0] - 2 * MAX_GUESS_S) return this.finish();
    const at_s = Math.max(heard_s, last?.[0] ?? 0);
    if (last && at_s - last[0] < SAMPLE_S) last[1] = recording.value;
    else recording.samples.push([at_s, recording.value]);
  }

  private finish(): void {
    clearTimeout(this.letGo);
    const { recording } = this;
    this.recording = null;
    if (!recording?.samples.length) return;
    const { address, samples, gesture, tolerance } = recording;
    void workspace.edit({ op: 'record_envelope', ...address, samples, tolerance, seed: newId() }, gesture);
  }
}

const plain = ({ of, id, name }: Address): Address => ({ of, id, name });

function documentValue({ of, id, name }: Address): unknown {
  const session = workspace.session!;
  const [field = '', place] = name.split('.');
  const from = (part: unknown) => (part as Record<string, unknown> | null | undefined)?.[field];
  if (of === 'step') {
    const step = workspace.stepById(id ?? '');
    const value = step && (field in step.settings ? step.settings[field] : from(step));
    return place !== undefined && Array.isArray(value) ? value[Number(place)] : value;
  }
  if (of === 'key') return from(workspace.stepById(id ?? '')?.key);
  if (of === 'lever') return from(leversOf(session).find((lever) => lever.id === id));
  if (of === 'strip') return from(session.strips.find((strip) => strip.id === id));
  if (of === 'send')
    return from(session.strips.flatMap((strip) => strip.sends).find((send) => send.id === id));
  for (const strip of session.strips) {
    for (const step of everyStep(strip.path.steps)) {
      const lane = step.lanes?.find((one) => one.id === id);
      if (lane) return from(lane);
    }
  }
  return null;
}

export const automation = new Automation();
