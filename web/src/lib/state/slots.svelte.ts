/** Slots of what is chosen: which are stored, what differs between them, and the gains that make them equally loud. */
import { api, type SettingValue, type SlotLoudness, type SlotsCompared } from '../api/client';
import { setOf } from './moves';
import { workspace, type Workspace } from './workspace.svelte';

export const SLOTS = [1, 2, 3, 4] as const;
export type SlotNumber = (typeof SLOTS)[number];
export type SlotOwner = 'step' | 'lane' | 'strip';

/** Which slots something has, and which is on. */
export interface Stored {
  on: SlotNumber | null;
  numbers: SlotNumber[];
}
interface Holder {
  slots?: { on?: number | null; kept?: Record<string, unknown> } | null;
}

export function storedOf(holder: Holder | null | undefined): Stored {
  const slots = holder?.slots;
  const numbers = Object.keys(slots?.kept ?? {}).map((key) => Number(key) as SlotNumber);
  return { on: (slots?.on ?? null) as SlotNumber | null, numbers: numbers.toSorted((a, b) => a - b) };
}

/** The chosen step or lane, or else the strip with its path. */
export function slotScope({ selection }: Workspace): { of: SlotOwner; id: string; stored: Stored } | null {
  const { step, lane, strip } = selection;
  if (step) return { of: 'step', id: step.id, stored: storedOf(step) };
  if (lane) return { of: 'lane', id: lane.id, stored: storedOf(lane) };
  return strip ? { of: 'strip', id: strip.id, stored: storedOf(strip.path) } : null;
}

class SlotState {
  /** What differs, of the scope it was asked for. */
  private answer = $state.raw<{ of: string; compared: SlotsCompared } | null>(null);
  private measured = $state.raw<{ of: string; slots: SlotLoudness[] } | null>(null);
  private latest = 0;

  readonly scope = $derived(slotScope(workspace));
  private readonly name = $derived(this.scope ? `${this.scope.of} ${this.scope.id}` : '');
  readonly compared = $derived(this.answer?.of === this.name ? this.answer.compared : null);
  readonly loudness = $derived(this.measured?.of === this.name ? this.measured.slots : []);

  /** Whether a setting of a step or a lane is not the same in all slots of the scope. */
  differs(id: string, name: string): boolean {
    return this.compared?.differences.some((row) => row.id === id && row.name === name) ?? false;
  }

  async store(slot: SlotNumber): Promise<void> {
    const { scope } = this;
    if (!scope) return;
    await workspace.edit({ op: 'store_slot', of: scope.of, id: scope.id, slot });
    workspace.note(`Stored in slot ${slot}.`, 'note', undefined, 'slot');
  }

  async switchTo(slot: SlotNumber): Promise<void> {
    const { scope } = this;
    if (!scope || scope.stored.on === slot) return;
    if (!scope.stored.numbers.includes(slot)) {
      workspace.note(
        `Slot ${slot} is empty; press Shift+${slot} to store what you hear.`,
        'note',
        undefined,
        'slot',
      );
      return;
    }
    await workspace.edit({ op: 'switch_slot', of: scope.of, id: scope.id, slot });
  }

  clear(slot: SlotNumber): Promise<void> {
    const { scope } = this;
    return scope ? workspace.edit({ op: 'clear_slot', of: scope.of, id: scope.id, slot }) : Promise.resolve();
  }

  /** One value of another slot for what sounds. */
  take(of: 'step' | 'lane', id: string, name: string, value: SettingValue): Promise<void> {
    return workspace.edit(setOf(of, id, { [name]: value }));
  }

  /** Ask what differs; called when the session has changed. */
  async compare(): Promise<void> {
    const { scope, name } = this;
    const version = workspace.version;
    if (!scope || !version) return;
    if (!scope.stored.numbers.length) {
      this.answer = null;
      return;
    }
    const compared = await workspace.attempt(() => api.slots(version.id, scope.of, scope.id), true);
    if (compared && name === this.name) this.answer = { of: name, compared };
  }

  /** Measure how loud each slot is over the passage; called once an edit has settled. */
  async measure(): Promise<void> {
    const { scope, name } = this;
    const version = workspace.version;
    const number = (this.latest += 1);
    if (!scope || !version) return;
    if (scope.stored.numbers.length < 2) {
      // One alone is as loud as it is, also where another was measured beside it before.
      if (this.loudness.length) workspace.listening.setSlots({ of: scope.of, id: scope.id, gains_db: {} });
      this.measured = null;
      return;
    }
    const { start_s, end_s } = workspace.listening.passage;
    const answer = await workspace.attempt(
      () =>
        api.studySlots(version.id, {
          tab: workspace.tab,
          number: workspace.measuring.nextNumber(),
          of: scope.of,
          id: scope.id,
          start_s,
          end_s,
        }),
      true,
    );
    if (!answer || number !== this.latest) return;
    this.measured = { of: name, slots: answer.slots };
    const gains_db = Object.fromEntries(answer.slots.map(({ slot, gain_db }) => [slot, gain_db]));
    workspace.listening.setSlots({ of: scope.of, id: scope.id, gains_db });
  }
}

export const slots = new SlotState();
