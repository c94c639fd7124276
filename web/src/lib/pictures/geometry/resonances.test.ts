import { describe, expect, it } from 'vitest';
import type { Resonance, ScopeAnswer } from '../../api/client';
import { columnAt, cutsOf, depthOf, handleAt, shapesOf } from './resonances';
import { axesOf } from './spectrum';

const one: Resonance = {
  frequency_hz: 250,
  width_oct: 0.5,
  height_db: 8,
  time_share: 1,
  share: 0.5,
  on: true,
  by_hand: false,
  certainty: 1,
};
const axes = axesOf(null, { width: 400, height: 200 });
const study = {
  bite: { rows: { 'cut 0 250.0': [0, 3, 6, 0], 'cut 1 4200.0': [1, 0, 0, 0], gate_state: [1, 1, 1, 1] } },
  bite_start_s: 10,
  bite_end_s: 14,
} as unknown as ScopeAnswer;

describe('what a tamer takes', () => {
  it('is read at a time, or as the most over the passage', () => {
    expect(columnAt(study, 12.5)).toBe(2);
    expect(columnAt(study, 9)).toBe(null);
    expect(cutsOf(study, [one], 2)[0]).toEqual({ hz: 250, width_oct: 0.5, db: 6 });
    expect(cutsOf(study, [one], null).map((cut) => cut.db)).toEqual([6, 1]);
  });
  it('hangs from the top, and nothing is drawn for nothing', () => {
    const drawn = (cut: number) => JSON.stringify(shapesOf([{ hz: 250, width_oct: 0.5, db: cut }], axes));
    expect(drawn(0.1)).toBe(JSON.stringify(shapesOf([], axes)));
    expect(drawn(12).length).toBeGreaterThan(drawn(0).length);
  });
});

describe('a handle', () => {
  it('stands at its frequency, as deep as its share of its height', () => {
    const shallow = handleAt({ ...one, share: 0.25 }, axes);
    expect(handleAt(one, axes).x).toBe(shallow.x);
    expect(handleAt(one, axes).y).toBeGreaterThan(shallow.y);
    expect(handleAt({ ...one, frequency_hz: 500 }, axes).x).toBeGreaterThan(shallow.x);
  });
  it('asks for a share of the height, or for more height', () => {
    expect(depthOf(one, 2, 24)).toEqual({ share: 0.25, height_db: 8 });
    expect(depthOf(one, 12, 24)).toEqual({ share: 1, height_db: 12 });
    expect(depthOf(one, 99, 24)).toEqual({ share: 1, height_db: 24 });
    expect(depthOf(one, -3, 24)).toEqual({ share: 0, height_db: 8 });
  });
});
