/** What an arrow key moves: a place in time by a beat, a value by a step of its scale; with Shift fine. */
import { type Setting } from '../api/client';
import { fromShare, toShare } from './value';

/** Of the scale. */
const STEP = 0.01;
const FINE = 0.002;
const FINE_S = 0.01;
/** Presses that follow each other within this are one edit. */
const GESTURE_MS = 1500;

export interface Way {
  time_s: number;
  /** Of the scale; of a switch its whole. */
  share: number;
}

/** Null where the key is no arrow. Takes the event otherwise. */
export function arrowWay(event: KeyboardEvent, beat_s: number, onOff = false): Way | null {
  const ways: Record<string, [number, number]> = {
    ArrowRight: [1, 0],
    ArrowLeft: [-1, 0],
    ArrowUp: [0, 1],
    ArrowDown: [0, -1],
  };
  const [across, up] = ways[event.key] ?? [0, 0];
  if (!across && !up) return null;
  event.preventDefault();
  event.stopPropagation();
  return {
    time_s: across * (event.shiftKey ? FINE_S : beat_s),
    share: up * (onOff ? 1 : event.shiftKey ? FINE : STEP),
  };
}

export function nudged(value: number, share: number, setting: Setting, onOff = false): number {
  if (!share) return value;
  if (onOff) return share > 0 ? 1 : 0;
  return Number(fromShare(toShare(value, setting) + share, setting).toPrecision(6));
}

/** Gives presses that follow each other one word: they are one edit of the history. */
export function pressGestures(): () => string {
  let word = '';
  let until = 0;
  return () => {
    if (Date.now() > until) word = crypto.randomUUID();
    until = Date.now() + GESTURE_MS;
    return word;
  };
}
