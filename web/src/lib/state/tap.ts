/** Tempo from taps. Pure. */

/** A pause of so much begins anew. */
const PAUSE_MS = 2500;
/** Taps it takes to tell. */
const MIN_TAPS = 4;

/** Beats a minute, to a tenth, of taps at times in milliseconds; null while they are too few or out of range. */
export function tapTempo(taps: number[]): number | null {
  let from = taps.length - 1;
  while (from > 0 && taps[from]! - taps[from - 1]! < PAUSE_MS) from -= 1;
  const run = taps.slice(Math.max(0, from));
  if (run.length < MIN_TAPS) return null;
  // The slope of a straight line through the taps: one that is late moves it little.
  const middle = (run.length - 1) / 2;
  const mean = run.reduce((sum, at) => sum + at, 0) / run.length;
  const above = run.reduce((sum, at, n) => sum + (n - middle) * (at - mean), 0);
  const below = run.reduce((sum, _, n) => sum + (n - middle) ** 2, 0);
  const bpm = Math.round((60_000 / (above / below)) * 10) / 10;
  return bpm >= 20 && bpm <= 300 ? bpm : null;
}
