/** The strips as a tree of what feeds what. Pure. */
import type { Strip } from '../api/client';

export interface Row {
  strip: Strip;
  depth: number;
  /** The strip it feeds, if that stands above it. */
  parent: string | null;
  /** How many strips stand beneath it. */
  beneath: number;
}

/** The main first, beneath each bus what feeds it; strips that feed nothing come last. */
export function rowsOf(strips: Strip[]): Row[] {
  const result: Row[] = [];
  const visit = (strip: Strip, depth: number, parent: string | null) => {
    const row: Row = { strip, depth, parent, beneath: 0 };
    const at = result.push(row);
    strips.filter((child) => child.output === strip.id).forEach((child) => visit(child, depth + 1, strip.id));
    row.beneath = result.length - at;
  };
  strips.filter((strip) => strip.kind === 'main').forEach((strip) => visit(strip, 0, null));
  strips
    .filter((strip) => strip.kind !== 'main' && strip.output === null)
    .forEach((strip) => visit(strip, 0, null));
  return result;
}

/** The rows that are shown: of a search those whose name has all its words; otherwise all but what folded buses hide. */
export function shownRows(rows: Row[], folded: ReadonlySet<string>, search: string): Row[] {
  const words = search.toLowerCase().split(/\s+/).filter(Boolean);
  if (words.length)
    return rows.filter(({ strip }) => words.every((word) => strip.name.toLowerCase().includes(word)));
  const result: Row[] = [];
  for (let at = 0; at < rows.length; at += 1) {
    const row = rows[at]!;
    result.push(row);
    if (folded.has(row.strip.id)) at += row.beneath;
  }
  return result;
}

/** The strips above one, from the nearest on. */
export function above(rows: Row[], id: string): string[] {
  const parent = rows.find((row) => row.strip.id === id)?.parent ?? null;
  return parent === null ? [] : [parent, ...above(rows, parent)];
}

/** Where strips go that are dropped on another: they feed a bus or the main; on a track they take the place before it. */
export function dropped(strips: Strip[], ids: string[], target: Strip) {
  const moving = strips.filter(
    (strip) => ids.includes(strip.id) && strip.kind !== 'main' && strip.id !== target.id,
  );
  const left = strips.filter((strip) => !moving.includes(strip));
  const at = left.indexOf(target);
  const index = target.kind === 'track' ? at : target.kind === 'main' ? left.length : at + 1;
  const output = target.kind === 'track' ? target.output : target.id;
  return moving.map((strip, n) => ({
    op: 'move_strip' as const,
    strip_id: strip.id,
    index: index + n,
    output,
  }));
}
