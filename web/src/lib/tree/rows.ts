/** The strips as a tree of what feeds what. Pure. */
import type { Strip } from '../api/client';

export interface Row {
  strip: Strip;
  depth: number;
}

/** The main first, beneath each bus what feeds it; strips that feed nothing come last. */
export function rowsOf(strips: Strip[]): Row[] {
  const result: Row[] = [];
  const visit = (strip: Strip, depth: number) => {
    result.push({ strip, depth });
    strips.filter((child) => child.output === strip.id).forEach((child) => visit(child, depth + 1));
  };
  strips.filter((strip) => strip.kind === 'main').forEach((strip) => visit(strip, 0));
  strips
    .filter((strip) => strip.kind !== 'main' && strip.output === null)
    .forEach((strip) => visit(strip, 0));
  return result;
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
