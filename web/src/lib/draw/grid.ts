/** Bars and beats along the session. Pure functions; bars are counted from where bar 1 begins. */

export interface Grid {
  tempo_bpm: number;
  beats_in_bar: number;
  bar_one_s: number;
}

export const beatLength = ({ tempo_bpm }: Grid) => 60 / tempo_bpm;
export const barLength = (grid: Grid) => beatLength(grid) * grid.beats_in_bar;

/** `17.2.3` with sixteenths; a place a millisecond early counts as there. Before bar 1 come bars 0, -1 ... */
export function barsAndBeats(position_s: number, grid: Grid): string {
  const sixteenths = Math.floor(((position_s - grid.bar_one_s) * grid.tempo_bpm * 4) / 60 + 0.005);
  const bar = Math.floor(sixteenths / (4 * grid.beats_in_bar));
  const rest = sixteenths - bar * 4 * grid.beats_in_bar;
  return `${bar + 1}.${Math.floor(rest / 4) + 1}.${(rest % 4) + 1}`;
}

export const barNumber = (position_s: number, grid: Grid) =>
  barsAndBeats(position_s, grid).replace(/\..*$/, '');

/** The nearest beat. */
export function toBeat(position_s: number, grid: Grid): number {
  const beat = beatLength(grid);
  return Math.max(0, grid.bar_one_s + Math.round((position_s - grid.bar_one_s) / beat) * beat);
}

/** The start of the bar so many bars from the one a position is in; a place just before a bar counts as in it. */
export function barFrom(position_s: number, bars: number, grid: Grid): number {
  const bar = barLength(grid);
  const at = (position_s - grid.bar_one_s) / bar;
  const here = bars < 0 ? Math.ceil(at - 0.01) : Math.floor(at + 0.01);
  return Math.max(0, grid.bar_one_s + (here + bars) * bar);
}

/** A place as people type it: `17`, `17.2`, `17.2.3` in bars; `12.5 s`, `1:02.5` in time. Null if it is neither. */
export function parsePlace(text: string, grid: Grid): number | null {
  const plain = text.trim().toLowerCase().replace(',', '.');
  const seconds = /^(\d+(?:\.\d*)?)\s*s$/.exec(plain);
  if (seconds) return Number(seconds[1]);
  const minutes = /^(\d+):(\d{1,2}(?:\.\d*)?)$/.exec(plain);
  if (minutes) return 60 * Number(minutes[1]) + Number(minutes[2]);
  const bars = /^(-?\d+)(?:\.(\d+))?(?:\.(\d+))?$/.exec(plain);
  if (!bars) return null;
  const beats =
    (Number(bars[1]) - 1) * grid.beats_in_bar + Number(bars[2] ?? 1) - 1 + (Number(bars[3] ?? 1) - 1) / 4;
  const place = grid.bar_one_s + beats * beatLength(grid);
  return place < -1e-9 ? null : Math.max(0, place);
}

/**
 * Where a file begins, as people type it: `12.5 s` and `-0.25 s`, `1:02.5`, `48000 samples`, or `17.2.3` in bars. Null if it is none
 * of them. Unlike a place of the playhead it may lie before the session.
 */
export function parseStart(text: string, grid: Grid, rate_hz: number): number | null {
  const plain = text
    .trim()
    .toLowerCase()
    .replace(',', '.')
    .replace(/\u2212/g, '-');
  const samples = /^([+-]?\d+)\s*(?:samples?|smp)$/.exec(plain);
  if (samples) return Number(samples[1]) / rate_hz;
  const seconds = /^([+-]?\d+(?:\.\d*)?)\s*(ms|s)$/.exec(plain);
  if (seconds) return Number(seconds[1]) / (seconds[2] === 'ms' ? 1000 : 1);
  if (plain.startsWith('-')) {
    const later = parsePlace(plain.slice(1), grid);
    return plain.includes(':') && later !== null ? -later : null;
  }
  return parsePlace(plain, grid);
}

export interface Tick {
  at_s: number;
  /** Of a bar that has a number; others are small. */
  label: string | null;
}

/** Bars between two places, so that numbers are at least `apart` pixels from each other; beats too where there is room. */
export function ticks(from_s: number, to_s: number, width: number, grid: Grid, apart = 44): Tick[] {
  const perPixel = (to_s - from_s) / Math.max(1, width);
  const bar = barLength(grid);
  const every = [1, 2, 4, 8, 16, 32, 64, 128, 256].find((bars) => (bars * bar) / perPixel >= apart) ?? 512;
  const small = every > 1 ? every / 2 : bar / grid.beats_in_bar / perPixel >= 8 ? 1 / grid.beats_in_bar : 1;
  const result: Tick[] = [];
  const first = Math.floor((from_s - grid.bar_one_s) / bar / small);
  for (let n = first; ; n += 1) {
    const bars = n * small;
    const at_s = grid.bar_one_s + bars * bar;
    if (at_s > to_s) return result;
    if (at_s < from_s - 1e-9) continue;
    const whole = Math.abs(bars / every - Math.round(bars / every)) < 1e-6;
    result.push({ at_s, label: whole ? String(Math.round(bars) + 1) : null });
  }
}
