/** Reading the course of a value off the line that the server tells, and what a hand's move means to what moves it. Pure functions. */
import { everyStep } from '../path/tree';
import type { Envelope, Lever, MovingValue, Owner, Section, Session, Setting } from '../api/client';
import { clamp } from '../controls/value';

export interface Address {
  of: Owner;
  id: string | null;
  name: string;
}
export const keyOf = ({ of, id, name }: Address): string => `${of} ${id ?? ''} ${name}`;

type Scale = Pick<Setting, 'minimum' | 'maximum' | 'scale'>;
const isLog = ({ scale, minimum }: Scale) => scale === 'log' && (minimum ?? 0) > 0;

/** The value at a time of a line that is straight on the setting's scale; of two points at one time the later one holds. */
export function valueAt(
  { times_s, values }: Pick<MovingValue, 'times_s' | 'values'>,
  setting: Scale,
  at_s: number,
): number {
  const count = times_s.length;
  let low = 0;
  let high = count;
  while (low < high) {
    const middle = (low + high) >> 1;
    if (times_s[middle]! <= at_s) low = middle + 1;
    else high = middle;
  }
  if (low === 0) return values[0]!;
  if (low === count) return values[count - 1]!;
  const [before, after] = [values[low - 1]!, values[low]!];
  const length = times_s[low]! - times_s[low - 1]!;
  const share = length > 0 ? (at_s - times_s[low - 1]!) / length : 1;
  return isLog(setting) ? before * (after / before) ** share : before + (after - before) * share;
}

/** How far one value is from another on the setting's scale: a difference, or a factor. */
export const distance = (from: number, to: number, setting: Scale): number =>
  isLog(setting) ? to / from : to - from;

/** The document's value for which levers, that move it from `base` to `still`, make the wanted one: their share is kept. */
export function baseFor(base: number, still: number, wanted: number, setting: Scale): number {
  const moved = isLog(setting) ? (wanted * base) / still : wanted - (still - base);
  return clamp(moved, setting.minimum ?? 0, setting.maximum ?? 1);
}

/** The section that a place lies in: of several the one that begins last. */
export const sectionAt = (sections: Section[], at_s: number): Section | null =>
  sections
    .filter((section) => section.start_s <= at_s && at_s < section.end_s)
    .reduce<Section | null>((best, one) => (best && best.start_s > one.start_s ? best : one), null);

/** The section that a passage lies in whole. */
export const sectionOf = (sections: Section[], start_s: number, end_s: number): Section | null =>
  sections
    .filter((section) => section.start_s <= start_s + 1e-3 && end_s <= section.end_s + 1e-3)
    .reduce<Section | null>((best, one) => (best && best.start_s > one.start_s ? best : one), null);

/** Switches that may move over time, and on what. */
const SWITCHES: Record<string, Owner[]> = { mute: ['strip', 'lane', 'send'], bypass: ['step', 'lane'] };
export const isSwitch = ({ of, name }: Address) => Boolean(SWITCHES[name]?.includes(of));

export const canMove = (address: Address, setting: Setting): boolean =>
  isSwitch(address) || (setting.type === 'number' && setting.moves === 'glides');

export const leversOf = (session: Session): Lever[] => [
  ...session.levers,
  ...session.strips.flatMap((strip) => strip.path.levers ?? []),
];

/** The envelope of a value, if it has one. */
export function envelopeOf(session: Session, { of, id, name }: Address): Envelope | null {
  const from = (part: { envelopes?: Record<string, Envelope> } | null | undefined) =>
    part?.envelopes?.[name] ?? null;
  if (of === 'lever') return from(leversOf(session).find((lever) => lever.id === id));
  for (const strip of session.strips) {
    if (of === 'strip' && strip.id === id) return from(strip);
    if (of === 'send') {
      const send = strip.sends.find((one) => one.id === id);
      if (send) return from(send);
    }
    for (const step of everyStep(strip.path.steps)) {
      if (of === 'step' && step.id === id) return from(step);
      if (of === 'key' && step.id === id) return from(step.key);
      const lane = of === 'lane' && step.lanes?.find((one) => one.id === id);
      if (lane) return from(lane);
    }
  }
  return null;
}
