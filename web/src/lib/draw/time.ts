/** Where a picture over time begins and ends, in words. */
import { workspace } from '../state/workspace.svelte';
import { barsAndBeats } from './grid';

export function spanText(start_s: number, end_s: number): string {
  if (end_s - start_s < 1) return `${start_s.toFixed(3)} s to ${end_s.toFixed(3)} s`;
  const bars = (at: number) => barsAndBeats(at, workspace.grid).replace(/\.\d+$/, '');
  return `bar ${bars(start_s)} to ${bars(end_s)}`;
}
