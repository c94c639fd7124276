import { describe, expect, it } from 'vitest';
import type { Lane, Step } from '../api/client';
import { layout, nearestSlot, PLATE, TAG, type Box } from './layout';
import { arrow, everyStep, find, type Chosen } from './tree';

const step = (id: string, lanes?: Lane[]): Step => ({
  id,
  kind: lanes ? 'split' : 'trim',
  bypass: false,
  settings: {},
  ...(lanes && { lanes }),
});
const lane = (id: string, ...steps: Step[]): Lane => ({
  id,
  name: id,
  path: { steps },
  level_db: 0,
  invert: false,
  mute: false,
  solo: false,
  bypass: false,
  linked: false,
  output: null,
});
// a, a split of two lanes (the first holds b and another split of two), d
const inner = step('inner', [lane('x', step('xs')), lane('y')]);
const outer = step('outer', [lane('one', step('b'), inner), lane('two', step('c'))]);
const steps = [step('a'), outer, step('d')];
const at = (id: string): Chosen =>
  ['x', 'y', 'one', 'two'].includes(id) ? { stepId: null, laneId: id } : { stepId: id, laneId: null };

describe('what stands in a path', () => {
  it('is found however deep, with what it stands in', () => {
    const result = find(steps, at('xs'))!;
    expect(result.trail.map((part) => part.lane.id)).toEqual(['one', 'x']);
    expect([result.lane?.id, result.split?.id, result.index]).toEqual(['x', 'inner', 0]);
    expect(find(steps, at('y'))!.split!.id).toBe('inner');
    expect(find(steps, at('gone'))).toBeNull();
    expect([...everyStep(steps)].map((s) => s.id)).toEqual(['a', 'outer', 'b', 'inner', 'xs', 'c', 'd']);
  });
});

describe('arrows', () => {
  const walk = (from: string, ...ways: ('left' | 'right' | 'up' | 'down')[]) =>
    ways.reduce<Chosen | null>((now, way) => now && arrow(steps, now, way), at(from));
  const is = (id: string) => at(id);

  it('walk along, in and out', () => {
    expect(arrow(steps, { stepId: null, laneId: null }, 'right')).toEqual(is('a'));
    expect(walk('a', 'right')).toEqual(is('outer'));
    expect(walk('outer', 'right')).toEqual(is('d'));
    expect(walk('outer', 'down')).toEqual(is('one'));
    expect(walk('one', 'right')).toEqual(is('b'));
    expect(walk('b', 'right', 'down', 'right')).toEqual(is('xs'));
    expect(walk('xs', 'right')).toEqual(is('d')); // out of both
    expect(walk('one', 'left')).toEqual(is('outer'));
    expect(walk('one', 'up')).toEqual(is('outer'));
    expect(walk('a', 'left')).toEqual({ stepId: null, laneId: null });
    expect(walk('d', 'right')).toBeNull();
  });

  it('walk between lanes, to the same place in them', () => {
    expect(walk('one', 'down')).toEqual(is('two'));
    expect(walk('b', 'down')).toEqual(is('c'));
    expect(walk('c', 'up')).toEqual(is('b'));
    expect(walk('y', 'down')).toEqual(is('two'));
    expect(walk('two', 'down')).toBeNull();
  });
});

describe('layout', () => {
  const placed = layout(steps, 120, 84);
  const overlap = (a: Box, b: Box) =>
    a.x < b.x + b.width && b.x < a.x + a.width && a.y < b.y + b.height && b.y < a.y + a.height;

  it('lets nothing overlap and keeps all inside', () => {
    const boxes = [
      ...placed.steps.map((s) => s.box),
      ...placed.tags.map((t) => t.box),
      ...placed.joins.map((j) => j.box),
    ];
    expect(boxes).toHaveLength(7 + 4 + 2);
    boxes.forEach((a, i) => boxes.slice(i + 1).forEach((b) => expect(overlap(a, b)).toBe(false)));
    for (const box of boxes) {
      expect(box.x + box.width).toBeLessThanOrEqual(placed.width);
      expect(box.y).toBeGreaterThanOrEqual(0);
      expect(box.y + box.height).toBeLessThanOrEqual(placed.height);
    }
  });

  it('fits three levels of splits into 240 pixels', () => {
    const deep = step('1', [
      lane('l1'),
      lane('l2', step('2', [lane('l3'), lane('l4', step('3', [lane('l5'), lane('l6')]))])),
    ]);
    expect(layout([deep], 120, 84).height).toBeLessThanOrEqual(240);
  });

  it('finds the slot that is meant', () => {
    const c = placed.steps.find((s) => s.step.id === 'c')!.box;
    expect(nearestSlot(placed.slots, c.x - 4, c.y + 20)).toMatchObject({ laneId: 'two', index: 0 });
    expect(nearestSlot(placed.slots, c.x + PLATE.width + TAG.width, c.y + 20)).toMatchObject({
      laneId: 'two',
      index: 1,
    });
  });
});
