/** The lines of the map: what goes where, and along which curve. Pure functions. */
import { newId, type Edit, type Key, type Lane, type Send, type Step, type Strip } from '../api/client';
import { everyStep } from '../path/tree';
import { GAP, PLATE, type Plate } from './layout';

export type Link =
  | { kind: 'output'; id: string; from: string; to: string }
  | { kind: 'lane'; id: string; from: string; to: string; lane: Lane }
  | { kind: 'send'; id: string; from: string; to: string; send: Send }
  | { kind: 'key'; id: string; from: string; to: string; step: Step; key: Key };

/** The strip that a key is taken from. */
export function keyStrip(strips: Strip[], own: string, key: Key): string {
  if (key.strip_id !== null) return key.strip_id;
  const holds = (strip: Strip) =>
    [...everyStep(strip.path.steps)].some(
      (step) => step.id === key.step_id || step.lanes?.some((lane) => lane.id === key.lane_id),
    );
  return (key.step_id ?? key.lane_id) === null ? own : (strips.find(holds)?.id ?? own);
}

/** Every line; keys within one strip are not drawn. */
export function links(strips: Strip[]): Link[] {
  const result: Link[] = [];
  for (const strip of strips) {
    if (strip.output !== null)
      result.push({ kind: 'output', id: `output ${strip.id}`, from: strip.id, to: strip.output });
    for (const send of strip.sends)
      result.push({ kind: 'send', id: `send ${send.id}`, from: strip.id, to: send.target, send });
    for (const step of everyStep(strip.path.steps)) {
      for (const lane of step.lanes ?? [])
        if (lane.output !== null)
          result.push({ kind: 'lane', id: `lane ${lane.id}`, from: strip.id, to: lane.output, lane });
      if (step.key) {
        const from = keyStrip(strips, strip.id, step.key);
        if (from !== strip.id)
          result.push({ kind: 'key', id: `key ${step.id}`, from, to: strip.id, step, key: step.key });
      }
    }
  }
  return result;
}

/** A line as SVG, and where its figure stands. */
export interface Curve {
  d: string;
  x: number;
  y: number;
}

const { width: W, height: H } = PLATE;

export function curve(link: Link, from: Plate, to: Plate): Curve {
  if (link.kind === 'key') return keyCurve(from, to);
  const [y0, y1] =
    link.kind === 'output' ? [from.y + H / 2, to.y + H / 2] : [from.y + 0.8 * H, to.y + 0.8 * H]; // sends and lanes leave below the output
  const x1 = to.x;
  let x0 = from.x + W;
  let start = `M${x0} ${y0}`;
  let y = y0;
  if (from.end > x0) {
    // Between the rows of its block, behind no plate.
    y = from.y + H + 7;
    start += `C${x0 + 9} ${y0} ${x0 + 2} ${y} ${x0 + 16} ${y}H${from.end}`;
    x0 = from.end;
  }
  const near = nearTo(x0, x1);
  const reach = Math.max(24, (x1 - near) / 2);
  const d = `${start}H${near}C${near + reach} ${y} ${x1 - reach} ${y1} ${x1} ${y1}`;
  return { d, x: near + 0.4 * (x1 - near), y: y + 0.35 * (y1 - y) };
}

/** Past other columns a line keeps to its own row, where no other plate stands, and turns before its target. */
const nearTo = (x0: number, x1: number) => (x1 - x0 > W ? x1 - GAP.column : x0);

/** Keys go from edge to edge, behind no plate: round the left within a column, else straight across. */
function keyCurve(from: Plate, to: Plate): Curve {
  if (Math.abs(from.x - to.x) < W) {
    const [x0, y0, x1, y1] = [from.x, from.y + H * 0.7, to.x, to.y + H * 0.3];
    const out = Math.min(x0, x1) - 18 - Math.min(46, Math.abs(y1 - y0) / 8);
    return { d: `M${x0} ${y0}C${out} ${y0} ${out} ${y1} ${x1} ${y1}`, x: out + 12, y: (y0 + y1) / 2 };
  }
  const ahead = to.x > from.x;
  const [x0, y0] = [ahead ? from.x + W : from.x, from.y + H * 0.86];
  const [x1, y1] = [ahead ? to.x : to.x + W, to.y + H * (ahead ? 0.26 : 0.74)];
  const near = ahead ? nearTo(x0, x1) : x0;
  const bend = (ahead ? 1 : -1) * Math.max(30, Math.abs(x1 - near) / 2);
  return {
    d: `M${x0} ${y0}H${near}C${near + bend} ${y0} ${x1 - bend} ${y1} ${x1} ${y1}`,
    x: (near + x1) / 2,
    y: (y0 + y1) / 2,
  };
}

/** What a line drawn from one strip to another can be. */
export interface Choice {
  label: string;
  edit: Edit;
}

export function choices(
  strips: Strip[],
  from: string,
  to: string,
  keyed: (kind: string) => string | null,
): Choice[] {
  const source = strips.find((strip) => strip.id === from);
  const target = strips.find((strip) => strip.id === to);
  if (!source || !target || from === to) return [];
  const result: Choice[] = [];
  if (target.kind !== 'track' && source.kind !== 'main') {
    if (source.output !== to)
      result.push({ label: 'Output', edit: { op: 'set_output', strip_id: from, output: to } });
    if (!source.sends.some((send) => send.target === to))
      for (const pre of [false, true])
        result.push({
          label: `Send, ${pre ? 'before' : 'after'} the level`,
          edit: {
            op: 'add_send',
            strip_id: from,
            send: { id: newId(), target: to, level_db: -10, pre },
          },
        });
  }
  for (const step of everyStep(target.path.steps)) {
    const label = keyed(step.kind);
    if (label)
      result.push({
        label: `Key of the ${label.toLowerCase()}`,
        edit: { op: 'set_key', step_id: step.id, key: { strip_id: from } },
      });
  }
  const duck = newId();
  result.push({
    label: `A ducker on ${target.name}, with this key`,
    edit: {
      op: 'add_step',
      strip_id: to,
      step: { id: duck, kind: 'ducker', settings: {}, key: { strip_id: from } },
    },
  });
  return result;
}

/** What removes a line. */
export function removal(link: Link): Edit {
  if (link.kind === 'output') return { op: 'set_output', strip_id: link.from, output: null };
  if (link.kind === 'send') return { op: 'remove_send', send_id: link.send.id };
  if (link.kind === 'lane') return { op: 'set_output', lane_id: link.lane.id, output: null };
  return { op: 'set_key', step_id: link.step.id, key: null };
}

/** Whether two keys are taken from the same place. */
export const sameSource = (a: Partial<Key>, b: Partial<Key>): boolean =>
  (['strip_id', 'step_id', 'lane_id'] as const).every((name) => (a[name] ?? null) === (b[name] ?? null)) &&
  (a.at ?? 'after') === (b.at ?? 'after');
