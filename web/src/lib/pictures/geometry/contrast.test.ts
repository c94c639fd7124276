import { describe, expect, it } from 'vitest';
import type { Contrast, SectionContrast } from '../../api/client';
import { pixel } from '../../draw/scale';
import type { Shape } from '../../draw/shapes';
import { axesOf, gridShapes, says, shapesOf, shortened, TOP, wishAt, wishLevel } from './contrast';

const BOX = { width: 900, height: 300 };
const GRID = { tempo_bpm: 120, beats_in_bar: 4, bar_one_s: 0 };

const figures = (lufs: number | null) => ({ integrated_lufs: lufs }) as SectionContrast['before'];
const section = (name: string, start_s: number, before: number | null, after: number | null) =>
  ({
    section_id: name,
    name,
    start_s,
    end_s: start_s + 10,
    before: figures(before),
    after: figures(after),
  }) as SectionContrast;
const SONG: Contrast = {
  sections: [section('Verse', 0, -30, -28), section('Chorus', 10, -20, -22), section('End', 20, null, null)],
  steps: [],
  before_lu: 10,
  after_lu: 6,
  times_s: [1.5, 5, 10, 15, 25],
  before_lufs: [-30, -30, -22, -20, null],
  after_lufs: [-28, -28, -24, -22, null],
  hints: [],
};
const flat = (shapes: Shape[]): Shape[] =>
  shapes.flatMap((shape) => (shape.type === 'clip' ? flat(shape.shapes) : [shape]));
const boxes = (pattern?: string) =>
  flat(shapesOf(SONG, AXES)).filter(
    (shape) => shape.type === 'box' && shape.fill.pattern === pattern,
  ) as Extract<Shape, { type: 'box' }>[];
const AXES = axesOf(SONG, 30, BOX);

describe('the contrast picture', () => {
  it('fits its axis to what sounds, in steps of six', () => {
    expect(AXES.levels).toMatchObject({ low: -36, high: -18 });
    expect(axesOf(null, 30, BOX).levels.low).toBeLessThan(axesOf(null, 30, BOX).levels.high);
  });

  it('draws what was taken as hatching and what was added in grains, from before to after', () => {
    const [taken] = boxes('hatch');
    const [added] = boxes('grain');
    expect(taken!.x).toBeCloseTo(pixel(10, AXES.time) + 1);
    expect(taken!.y).toBeCloseTo(pixel(-20, AXES.levels));
    expect(taken!.y + taken!.height).toBeCloseTo(pixel(-22, AXES.levels));
    expect(added!.y).toBeCloseTo(pixel(-28, AXES.levels));
  });

  it('leaves a silent section out and breaks the line there', () => {
    expect(boxes()).toHaveLength(2);
    const lines = flat(shapesOf(SONG, AXES)).filter((shape) => shape.type === 'line');
    expect(lines).toHaveLength(2);
    expect(lines[0]!.type === 'line' && lines[0]!.xs).toHaveLength(4);
  });

  it('names the sections above the plot and the bars below', () => {
    const texts = [...shapesOf(SONG, AXES), ...gridShapes(AXES, GRID)].flatMap((shape) =>
      shape.type === 'text' ? [shape] : [],
    );
    expect(texts.find((one) => one.text === 'Chorus')!.y).toBeLessThan(TOP);
    expect(texts.some((one) => one.text === '5' && one.y > AXES.levels.from)).toBe(true);
    expect(shortened('A very long name of a section', 60)).toBe('A very..'.slice(0, 5) + '..');
    expect(shortened('Verse', 20)).toBe('');
  });

  it('turns a wish into a level under the loudest section and back', () => {
    expect(wishLevel(SONG, 6)).toBe(-28);
    expect(wishLevel(SONG, 0)).toBeNull();
    expect(wishAt(pixel(-28, AXES.levels), SONG, AXES)).toBe(6);
    expect(wishAt(-500, SONG, AXES)).toBe(0.5);
  });

  it('says its figures', () => {
    expect(says(SONG)).toContain('10.0 LU before, 6.0 LU after');
    expect(says(SONG)).toContain('End silent');
  });
});
