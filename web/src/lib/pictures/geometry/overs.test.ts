import { expect, test } from 'vitest';
import type { DeliveryCheck } from '../../api/client';
import { gridShapes, heightOf, LEFT, markShapes, overAt, RIGHT, ROW, says, timeAxis, TOP } from './overs';

const BOX = { width: 670, height: 200 };
const format = (name: string, overs: [number, number][]) =>
  ({
    format: name,
    label: name.toUpperCase(),
    over_count: overs.length,
    overs: overs.map(([at_s, true_peak_dbtp]) => ({ at_s, true_peak_dbtp })),
    figures: { true_peak_dbtp: -0.5 },
  }) as DeliveryCheck['formats'][number];
const checked = {
  start_s: 10,
  length_s: 50,
  true_peak_dbtp: -1,
  formats: [
    format('mp3-128', [
      [10, 0.5],
      [35, 5],
    ]),
    format('opus-128', [[60, -0.9]]),
    format('wav16', []),
  ],
} as unknown as DeliveryCheck;

test('marks lie at their time, in their row, as high as they are above', () => {
  const marks = markShapes(checked, checked.formats[0]!, BOX);
  expect(marks).toHaveLength(3);
  const boxes = marks.map((mark) => (mark.type === 'box' ? mark : null)!);
  const middle = (n: number) => boxes[n]!.x + boxes[n]!.width / 2;
  expect(middle(0)).toBe(LEFT);
  expect(middle(1)).toBe((LEFT + BOX.width - RIGHT) / 2);
  expect(middle(2)).toBe(BOX.width - RIGHT);
  expect(boxes[0]!.height).toBeCloseTo((ROW - 2) / 2); // 1.5 dB above is half a row
  expect(boxes[1]!.height).toBe(ROW - 2); // and never more than the row
  expect(boxes[2]!.y + boxes[2]!.height).toBe(TOP + 2 * ROW);
  expect(boxes.map((box) => box.fill.alpha)).toEqual([1, 1, 0.6]);
});

test('a press is about the nearest over of its row', () => {
  expect(overAt(LEFT + 3, TOP + 5, checked, BOX)).toEqual({ format: 'mp3-128', at_s: 10 });
  expect(overAt(LEFT + 60, TOP + 5, checked, BOX)).toBeNull();
  expect(overAt(BOX.width - RIGHT, TOP + ROW + 2, checked, BOX)).toEqual({ format: 'opus-128', at_s: 60 });
  expect(overAt(LEFT, TOP + 2 * ROW + 2, checked, BOX)).toBeNull(); // a row without overs
  expect(overAt(LEFT, 3, checked, BOX)).toBeNull();
});

test('sections and seconds stand where they are, and the height fits the rows', () => {
  const sections = [
    { id: 'z', name: 'Before', start_s: 0, end_s: 10.0003 }, // but for a frame it is over
    { id: 'a', name: 'Ebb', start_s: 0, end_s: 12 },
    { id: 'b', name: 'Flood', start_s: 35, end_s: 60 },
    { id: 'c', name: 'Later', start_s: 70, end_s: 80 },
  ];
  const shapes = gridShapes(checked, sections, BOX);
  const time = timeAxis(checked, BOX);
  const rules = shapes.filter((shape) => shape.type === 'rule' && shape.stroke.dash);
  expect(rules.map((shape) => shape.type === 'rule' && shape.from[0])).toEqual([
    LEFT,
    (time.from + time.to) / 2,
  ]);
  const words = shapes.flatMap((shape) => (shape.type === 'text' ? [shape.text] : []));
  expect(words).toEqual(expect.arrayContaining(['0:10', '1:00', 'MP3-128', 'WAV16']));
  expect(heightOf(checked)).toBe(TOP + 3 * ROW + 22);
  expect(says(checked)).toContain('MP3-128 -0.50 dBTP, 2 above');
});
