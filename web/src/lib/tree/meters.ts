/** What the meters of the strip tree show: shares of their width, from figures of one block. Pure, so that it can be tested. */

/** The quietest level that shows, in dBFS. */
const FLOOR_DB = -60;
/** The gain reduction that would fill the meter, and how much of it may be bitten away. */
const FULL_REDUCTION_DB = 24;
const MAX_BITE = 0.6;
/** Less gain reduction than this is not worth a mark, in dB. */
const MIN_REDUCTION_DB = 0.1;
/** Less of a share than this is not seen to move. */
const MIN_MOVE = 0.004;

export interface Bars {
  input: number;
  output: number;
  /** What the step with the most gain reduction takes, from the right. */
  bite: number;
}

const share = (db: number | undefined) => Math.max(0, Math.min(1, ((db ?? FLOOR_DB) - FLOOR_DB) / -FLOOR_DB));

/** levels: peaks in and out in dBFS; changes_db: the gain of each step. */
export function bars(
  levels: readonly (number | undefined)[] | undefined,
  changes_db: Iterable<number>,
): Bars {
  let reduction = 0;
  for (const change of changes_db) reduction = Math.max(reduction, -change);
  const bite = reduction < MIN_REDUCTION_DB ? 0 : Math.min(MAX_BITE, reduction / FULL_REDUCTION_DB);
  return { input: share(levels?.[0]), output: share(levels?.[1]), bite };
}

export function moved(shown: Bars | undefined, next: Bars): boolean {
  if (!shown) return true;
  const names = ['input', 'output', 'bite'] as const;
  return names.some(
    (name) => Math.abs(shown[name] - next[name]) >= MIN_MOVE || (next[name] === 0) !== (shown[name] === 0),
  );
}

/** The rows that a scrolled box shows: from the first up to, not with, the last. */
export function rowsInSight(top: number, height: number, row: number, count: number): [number, number] {
  const first = Math.max(0, Math.floor(top / row));
  return [first, Math.min(count, Math.ceil((top + height) / row))];
}
