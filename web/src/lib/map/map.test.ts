import { describe, expect, it } from 'vitest';
import type { Step, Strip } from '../api/client';
import { renamed } from '../path/tree';
import { depths, layout, neighbour, PLATE, type Plate } from './layout';
import { choices, curve, links, removal } from './links';
import { fitted, levelShare, zoomed } from './view';

const strip = (id: string, output: string | null, more: Partial<Strip> = {}): Strip =>
  ({
    id,
    name: id,
    kind: id === 'main' ? 'main' : id.startsWith('b') ? 'bus' : 'track',
    output,
    sends: [],
    path: { steps: [] },
    level_db: 0,
    ...more,
  }) as unknown as Strip;
const duck = (id: string, key: object | null = null): Step => ({
  id,
  kind: 'ducker',
  bypass: false,
  settings: {},
  key: key && { strip_id: null, step_id: null, lane_id: null, at: 'after', trim_db: 0, mutes: false, ...key },
});
const send = (target: string) => ({ id: `s-${target}`, target, level_db: -6, pre: false, mute: false });
const small = [
  strip('main', null),
  strip('b1', 'main'),
  strip('b2', 'main'),
  strip('t1', 'b1', { sends: [send('b2')] }),
  strip('t2', 'b1', { path: { steps: [duck('d', { strip_id: 't1' })] } }),
  strip('t3', 'main'),
  strip('alone', null),
];
const large = [
  strip('main', null),
  ...Array.from({ length: 7 }, (_, n) => strip(`b${n}`, 'main')),
  ...Array.from({ length: 56 }, (_, n) => strip(`t${n}`, `b${n % 7}`)),
];

const overlap = (a: Plate, b: Plate) =>
  Math.abs(a.x - b.x) < PLATE.width && Math.abs(a.y - b.y) < PLATE.height;

/** How many pairs of outputs cross, as straight lines between the plates. */
function crossings(strips: Strip[]): number {
  const at = new Map(layout(strips).plates.map((plate) => [plate.id, plate]));
  const lines = links(strips)
    .filter((link) => link.kind === 'output')
    .map((link) => [at.get(link.from)!, at.get(link.to)!] as const);
  let count = 0;
  for (const [n, [a, b]] of lines.entries())
    for (const [c, d] of lines.slice(n + 1))
      if (b.id !== d.id && b.x === d.x && a.x === c.x && (a.y - c.y) * (b.y - d.y) < 0) count += 1;
  return count;
}

describe('the layout', () => {
  it('puts sources at the left and the main at the right, nothing over anything', () => {
    expect([...depths(small).entries()]).toEqual([
      ['main', 0], ['b1', 1], ['b2', 1], ['t1', 2], ['t2', 2], ['t3', 1], ['alone', 1],
    ]); // prettier-ignore
    for (const strips of [small, large]) {
      const { plates, width, height } = layout(strips);
      expect(plates.map((plate) => plate.id).sort()).toEqual(strips.map((s) => s.id).sort());
      for (const link of links(strips).filter((l) => l.kind !== 'key')) {
        const [from, to] = [link.from, link.to].map((id) => plates.find((plate) => plate.id === id)!);
        expect(from!.x).toBeLessThan(to!.x);
      }
      plates.forEach((a, n) => plates.slice(n + 1).forEach((b) => expect(overlap(a, b)).toBe(false)));
      expect(Math.max(...plates.map((plate) => plate.x + PLATE.width))).toBe(width);
      expect(Math.max(...plates.map((plate) => plate.y + PLATE.height))).toBeLessThanOrEqual(height + 1);
    }
  });

  it('crosses no outputs and stays readable at 64 strips', () => {
    expect(crossings(small)).toBe(0);
    expect(crossings(large)).toBe(0);
    const { width, height } = layout(large);
    const fit = Math.min(1040 / width, 660 / height);
    expect(11 * fit).toBeGreaterThan(7); // the names' letters, in pixels, at 1280 x 800
  });

  it('moves nothing for a key, and little for a send', () => {
    const where = (strips: Strip[]) => JSON.stringify(layout(strips).plates);
    const keyed = small.map((s) =>
      s.id === 't3' ? { ...s, path: { steps: [duck('e', { strip_id: 'b1' })] } } : s,
    );
    expect(where(keyed)).toBe(where(small));
    const sent = small.map((s) => (s.id === 't2' ? { ...s, sends: [send('b2')] } : s));
    expect(where(sent)).toBe(where(small));
  });

  it('leads the arrows to what is nearest', () => {
    const { plates } = layout(small);
    expect(neighbour(plates, 't1', 'right')).toBe('b1');
    expect(neighbour(plates, 't1', 'down')).toBe('t2');
    expect(neighbour(plates, 'main', 'right')).toBeNull();
  });
});

describe('the lines', () => {
  it('are outputs, sends and keys, each with its removal', () => {
    const result = links(small);
    expect(result.map((link) => link.id)).toEqual([
      'output b1', 'output b2', 'output t1', 'send s-b2', 'output t2', 'key d', 'output t3',
    ]); // prettier-ignore
    expect(result.map((link) => removal(link).op)).toEqual([
      'set_output', 'set_output', 'set_output', 'remove_send', 'set_output', 'set_key', 'set_output',
    ]); // prettier-ignore
    const at = new Map(layout(small).plates.map((plate) => [plate.id, plate]));
    for (const link of result) {
      const { d, x, y } = curve(link, at.get(link.from)!, at.get(link.to)!);
      expect(d).not.toMatch(/NaN|undefined/);
      expect(Number.isFinite(x + y)).toBe(true);
    }
  });

  it('offers what can be: a track takes keys only, a send is offered once', () => {
    const named = (from: string, to: string) =>
      choices(small, from, to, (kind) => (kind === 'ducker' ? 'Ducker' : null)).map((choice) => choice.label);
    expect(named('t3', 't2')).toEqual(['Key of the ducker', 'A ducker on t2, with this key']);
    expect(named('t1', 'b2')).toEqual(['Output', 'A ducker on b2, with this key']);
    expect(named('main', 'b2')).toEqual(['A ducker on b2, with this key']);
    expect(named('t1', 't1')).toEqual([]);
  });
});

describe('copies', () => {
  it('have new names, and keys among them go from copy to copy', () => {
    const lane = {
      id: 'lane', name: 'L', path: { steps: [duck('in', { step_id: 'first' })] }, level_db: 0, invert: false, mute: false,
      solo: true, bypass: false, linked: false, output: 'b1',
    }; // prettier-ignore
    const steps = [duck('first', { strip_id: 't1' }), { ...duck('split'), lanes: [lane] }];
    const [first, split] = renamed(steps) as [Step, Step];
    const inner = split.lanes![0]!;
    expect(new Set([first.id, split.id, inner.id, 'first', 'split', 'lane']).size).toBe(6);
    expect(first.key!.strip_id).toBe('t1');
    expect(inner.path.steps[0]!.key!.step_id).toBe(first.id);
    expect([inner.output, inner.solo]).toEqual([null, false]);
  });
});

describe('view', () => {
  it('fits a map into its box, below its legend, and never beyond what can be read', () => {
    const box = { width: 1000, height: 600 };
    const whole = fitted({ width: 1888, height: 300 }, box);
    expect(whole.scale).toBeCloseTo(0.5);
    expect(whole.x).toBeCloseTo(28);
    expect(fitted({ width: 100, height: 100 }, box).scale).toBe(1.25);
    expect(fitted({ width: 100_000, height: 100 }, box).scale).toBe(0.2);
  });
  it('zooms about a point, which stays where it is', () => {
    const before = { x: 10, y: 20, scale: 1 };
    const after = zoomed(before, 2, 110, 220);
    expect((110 - after.x) / after.scale).toBeCloseTo(110 - before.x);
    expect((220 - after.y) / after.scale).toBeCloseTo(220 - before.y);
    expect(zoomed(before, 100, 0, 0).scale).toBe(3);
  });
  it('paints levels in steps of 3 dB between -60 and 0', () => {
    expect([-120, -60, -30.5, -30, 0, 6].map(levelShare)).toEqual([0, 0, 0.5, 0.5, 1, 1]);
  });
});
