/**
 * Where the strips stand on the map: pure functions of the session, so that an edit moves only what it is about.
 *
 * Columns by the longest way to the main, sources at the left. A bus stands beside the strips that feed it, in the order
 * of the session: outputs then never cross. Many strips of one bus stand in rows of two or three.
 */
import type { Strip } from '../api/client';
import { everyStep } from '../path/tree';

export const PLATE = { width: 136, height: 38 };
export const GAP = { column: 84, beside: 18, row: 14 };
/** More rows than this, and strips of one bus stand beside each other. */
const MAX_ROWS = 17;

export interface Plate {
  id: string;
  x: number;
  y: number;
  /** Where a wrapped block ends at the right: lines run between the rows until there. */
  end: number;
}
export interface Layout {
  plates: Plate[];
  width: number;
  height: number;
}

/** The strips that one feeds by its output, its sends and its lanes. */
export function targets(strip: Strip): string[] {
  const lanes = [...everyStep(strip.path.steps)].flatMap((step) => step.lanes ?? []);
  return [
    ...(strip.output === null ? [] : [strip.output]),
    ...strip.sends.map((send) => send.target),
    ...lanes.flatMap((lane) => (lane.output === null ? [] : [lane.output])),
  ];
}

/** How many strips lie between each strip and the main at most, itself counted; 0 is the main. */
export function depths(strips: Strip[]): Map<string, number> {
  const byId = new Map(strips.map((strip) => [strip.id, strip]));
  const result = new Map<string, number>();
  const depth = (strip: Strip): number => {
    const known = result.get(strip.id);
    if (known !== undefined) return known;
    result.set(strip.id, 1); // the server refuses loops, but a picture must not hang on one
    const ahead = targets(strip).flatMap((id) => byId.get(id) ?? []);
    const own = strip.kind === 'main' ? 0 : 1 + Math.max(0, ...ahead.map(depth));
    result.set(strip.id, own);
    return own;
  };
  strips.forEach(depth);
  return result;
}

export function layout(strips: Strip[]): Layout {
  const depth = depths(strips);
  const deepest = Math.max(0, ...depth.values());
  const ids = new Set(strips.map((strip) => strip.id));
  const feeders = (id: string | null) =>
    strips.filter((strip) =>
      id === null
        ? strip.kind !== 'main' && (strip.output === null || !ids.has(strip.output))
        : strip.output === id,
    );
  const isLeaf = (strip: Strip) => !feeders(strip.id).length;
  const columns = Array.from({ length: deepest + 1 }, (_, at) => {
    const leaves = strips.filter((strip) => depth.get(strip.id) === at && isLeaf(strip)).length;
    return Math.max(1, Math.ceil(leaves / MAX_ROWS));
  });
  const widths = columns.map((beside) => beside * PLATE.width + (beside - 1) * GAP.beside);
  /** The right edge of a column, from the left. */
  const right = (at: number) => {
    const before = widths.slice(at).reduce((sum, width) => sum + width + GAP.column, 0);
    return before - GAP.column;
  };
  const pitch = PLATE.height + GAP.row;
  const plates: Plate[] = [];
  const put = (strip: Strip, row: number, fromRight = 0) => {
    const at = depth.get(strip.id)!;
    const x = right(at) - PLATE.width - fromRight * (PLATE.width + GAP.beside);
    plates.push({ id: strip.id, x, y: row * pitch, end: right(at) });
  };
  /** Places what feeds a strip from a row on; returns the rows it takes. */
  const block = (children: Strip[], top: number): number => {
    let row = top;
    for (let at = 0; at < children.length;) {
      const child = children[at]!;
      if (!isLeaf(child)) {
        row += tree(child, row);
        at += 1;
        continue;
      }
      const column = depth.get(child.id)!;
      let count = 1;
      while (
        at + count < children.length &&
        isLeaf(children[at + count]!) &&
        depth.get(children[at + count]!.id) === column
      )
        count += 1;
      const beside = columns[column]!;
      for (let n = 0; n < count; n += 1)
        put(children[at + n]!, row + Math.floor(n / beside), beside - 1 - (n % beside));
      row += Math.ceil(count / beside);
      at += count;
    }
    return row - top;
  };
  const tree = (strip: Strip, top: number): number => {
    const before = plates.length;
    const rows = block(feeders(strip.id), top);
    const fed = plates
      .slice(before)
      .filter((plate) => feeders(strip.id).some((child) => child.id === plate.id));
    const middle = fed.length ? (fed[0]!.y + fed.at(-1)!.y) / 2 / pitch : top;
    put(strip, middle);
    return Math.max(rows, 1);
  };
  const main = strips.find((strip) => strip.kind === 'main');
  let rows = main ? tree(main, 0) : 0;
  rows += block(feeders(null), rows);
  return { plates, width: right(0), height: Math.max(1, rows) * pitch - GAP.row };
}

/** The plate nearest to one in a direction, for the arrow keys. */
export function neighbour(
  plates: Plate[],
  from: string,
  way: 'left' | 'right' | 'up' | 'down',
): string | null {
  const own = plates.find((plate) => plate.id === from);
  if (!own) return null;
  const along = way === 'left' || way === 'right' ? 'x' : 'y';
  const across = along === 'x' ? 'y' : 'x';
  const sign = way === 'right' || way === 'down' ? 1 : -1;
  let best: string | null = null;
  let least = Infinity;
  for (const plate of plates) {
    const ahead = sign * (plate[along] - own[along]);
    if (plate.id === from || ahead <= 1) continue;
    const distance = ahead + 3 * Math.abs(plate[across] - own[across]);
    if (distance < least) [best, least] = [plate.id, distance];
  }
  return best;
}
