/** How a map lies in its box: its place and its scale. */

export interface View {
  x: number;
  y: number;
  scale: number;
}
interface Size {
  width: number;
  height: number;
}

const MARGIN = 28;
/** Above the map lie its legend and the zoom. */
const TOP = 44;
const MAX_FITTED_SCALE = 1.25;
const MIN_SCALE = 0.2;
const MAX_SCALE = 3;

/** All of the map, in the middle. */
export function fitted(map: Size, box: Size): View {
  const scale = Math.min(
    MAX_FITTED_SCALE,
    (box.width - 2 * MARGIN) / Math.max(map.width, 1),
    (box.height - MARGIN - TOP) / Math.max(map.height, 1),
  );
  const used = Math.max(scale, MIN_SCALE);
  return {
    scale: used,
    x: (box.width - used * map.width) / 2,
    y: Math.max(TOP, (box.height - used * map.height) / 2),
  };
}

/** Larger or smaller by a factor; the point of the box stays over what it is over. */
export function zoomed(view: View, by: number, x: number, y: number): View {
  const scale = Math.max(MIN_SCALE, Math.min(MAX_SCALE, view.scale * by));
  const moved = scale / view.scale;
  return { scale, x: x - (x - view.x) * moved, y: y - (y - view.y) * moved };
}

/** 0 at -60 dB, 1 at full scale, in steps of 3 dB: what does not change is not painted. */
export const levelShare = (db: number): number => Math.max(0, Math.min(1, Math.ceil((db + 60) / 3) / 20));
