/** Where the plates, lanes and rails of a path lie. Pure functions; all lengths in CSS pixels. */
import type { Lane, Step } from '../api/client';

/** Text of another size than 16 px needs room of another size. */
const unit =
  typeof document === 'undefined' ? 1 : parseFloat(getComputedStyle(document.documentElement).fontSize) / 16;
const sized = (width: number, height: number) => ({ width: width * unit, height: height * unit });
export const PLATE = sized(122, 36);
/** The plate at which a split fans out says little. */
export const HEAD = sized(86, 36);
export const TAG = sized(98, 36);
export const JOIN = sized(104, 36);
const GAP = 12;
/** Room in which rails fan out and come together. */
const FAN = 20;
const ROW_GAP = 4;
const PLUS = 18;
const TAIL = 40;
/** The path leads on to the strip's level: past any window's edge. */
const BEYOND = 5000;
/** Room for the path's own buttons, and for a scroll bar. */
const ABOVE = 24;
const BELOW = 12;

export interface Box {
  x: number;
  y: number;
  width: number;
  height: number;
}
export interface Placed {
  steps: { step: Step; box: Box; lane: Lane | null }[];
  tags: { lane: Lane; split: Step; box: Box }[];
  joins: { split: Step; box: Box; circle: { x: number; y: number } }[];
  /** Where a step can be put: between plates and at the end of every path. */
  slots: { x: number; y: number; laneId: string | null; index: number; last: boolean }[];
  rails: string[];
  width: number;
  height: number;
}

interface Size {
  width: number;
  up: number;
  down: number;
}

function sizeOfStep(step: Step): Size {
  const half = PLATE.height / 2;
  if (!step.lanes) return { width: PLATE.width, up: half, down: half };
  const lanes = step.lanes.map(sizeOfLane);
  const height =
    lanes.reduce((sum, lane) => sum + lane.up + lane.down, 0) + ROW_GAP * Math.max(0, lanes.length - 1);
  const inside = Math.max(...lanes.map((lane) => lane.width));
  return {
    width: HEAD.width + 2 * FAN + inside + FAN / 2 + JOIN.width,
    up: Math.max(half, height / 2),
    down: Math.max(half, height / 2),
  };
}

function sizeOfLane(lane: Lane): Size {
  const half = TAG.height / 2;
  const steps = lane.path.steps.map(sizeOfStep);
  return {
    width: TAG.width + steps.reduce((sum, step) => sum + GAP + step.width, 0) + GAP + PLUS,
    up: Math.max(half, ...steps.map((step) => step.up)),
    down: Math.max(half, ...steps.map((step) => step.down)),
  };
}

/** A row of steps from x on, on the line y; returns where it ends. */
function row(into: Placed, steps: Step[], lane: Lane | null, x: number, y: number): number {
  steps.forEach((step, index) => {
    into.slots.push({ x: x + GAP / 2, y, laneId: lane?.id ?? null, index, last: false });
    into.rails.push(`M${x} ${y}h${GAP}`);
    x += GAP;
    const { width, height } = step.lanes ? HEAD : PLATE;
    into.steps.push({ step, lane, box: { x, y: y - height / 2, width, height } });
    x = step.lanes ? fan(into, step, x + width, y) : x + width;
  });
  into.slots.push({ x: x + GAP + PLUS / 2, y, laneId: lane?.id ?? null, index: steps.length, last: true });
  into.rails.push(`M${x} ${y}h${GAP + PLUS}`);
  return x + GAP + PLUS;
}

/** A split's lanes beneath each other, from its head at x on; returns where its join ends. */
function fan(into: Placed, split: Step, x: number, y: number): number {
  const size = sizeOfStep(split);
  const inside = size.width - HEAD.width - 2 * FAN - FAN / 2 - JOIN.width;
  const end = x + FAN + inside;
  let top = y - size.up;
  const lanes = split.lanes ?? [];
  const height = lanes
    .map(sizeOfLane)
    .reduce((sum, lane, i) => sum + lane.up + lane.down + (i ? ROW_GAP : 0), 0);
  top += (size.up + size.down - height) / 2;
  const circle = { x: end + FAN, y };
  for (const lane of lanes) {
    const own = sizeOfLane(lane);
    const line = top + own.up;
    into.tags.push({
      lane,
      split,
      box: { x: x + FAN, y: line - TAG.height / 2, width: TAG.width, height: TAG.height },
    });
    into.rails.push(curve(x, y, x + FAN, line));
    const last = row(into, lane.path.steps, lane, x + FAN + TAG.width, line);
    if (!lane.output) into.rails.push(`M${last} ${line}H${end}`, curve(end, line, circle.x, y));
    top += own.up + own.down + ROW_GAP;
  }
  const join = {
    x: circle.x + FAN / 2,
    y: y - JOIN.height / 2,
    width: JOIN.width,
    height: JOIN.height,
  };
  into.rails.push(`M${circle.x} ${y}H${join.x}`);
  into.joins.push({ split, circle, box: join });
  return join.x + join.width;
}

/** A rail that leaves level, bends, and arrives level. */
function curve(x1: number, y1: number, x2: number, y2: number): string {
  const middle = (x1 + x2) / 2;
  return `M${x1} ${y1}C${middle} ${y1} ${middle} ${y2} ${x2} ${y2}`;
}

/** The whole path; `left` is where the strip's own plate ends. */
export function layout(steps: Step[], left: number, least: number): Placed {
  const into: Placed = { steps: [], tags: [], joins: [], slots: [], rails: [], width: 0, height: 0 };
  const sizes = steps.map(sizeOfStep);
  const up = Math.max(PLATE.height / 2, ...sizes.map((size) => size.up));
  const down = Math.max(PLATE.height / 2, ...sizes.map((size) => size.down));
  const y = ABOVE + up;
  const end = row(into, steps, null, left, y);
  into.rails.push(`M0 ${y}H${left}`, `M${end} ${y}h${BEYOND}`);
  into.width = end + TAIL;
  into.height = Math.max(least, ABOVE + up + down + BELOW);
  return into;
}

/** The slot nearest to a place, for what is dropped there. */
export function nearestSlot(slots: Placed['slots'], x: number, y: number): Placed['slots'][number] | null {
  let best: Placed['slots'][number] | null = null;
  let distance = Infinity;
  for (const slot of slots) {
    const away = Math.abs(slot.x - x) + 3 * Math.abs(slot.y - y);
    if (away < distance) [best, distance] = [slot, away];
  }
  return best;
}
