/** Where the file of a track begins in the session. */
import type { Strip } from '../api/client';
import { within } from '../controls/value';
import { beatLength } from '../draw/grid';
import type { Workspace } from './workspace.svelte';

const NUDGE_S = 0.001;

/** To the nearest sample, within what a start can be. */
export function setStart(
  workspace: Workspace,
  strip: Strip,
  start_s: number,
  gesture: string | null = null,
): void {
  const rate = workspace.session?.rate_hz ?? 48000;
  const start = within(Math.round(start_s * rate) / rate, workspace.described.setting('strip', 'start_s'));
  if (start !== strip.start_s) workspace.move('strip', strip.id, { start_s: start }, gesture);
}

/** Where a key moves it: by 1 ms, with Shift by a sample, with Ctrl by a beat. Null if the key is none of them. */
export function nudgedStart(
  workspace: Workspace,
  strip: Strip,
  event: Pick<KeyboardEvent, 'key' | 'shiftKey' | 'ctrlKey'>,
  ways: Readonly<Record<string, number>>,
): number | null {
  const way = ways[event.key];
  if (way === undefined) return null;
  const sample = 1 / (workspace.session?.rate_hz ?? 48000);
  const step = event.shiftKey ? sample : event.ctrlKey ? beatLength(workspace.grid) : NUDGE_S;
  return strip.start_s + way * step;
}
