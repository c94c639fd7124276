import { expect, test } from 'vitest';
import { Frames } from './frames';

function clock() {
  let waiting: ((now: number) => void) | null = null;
  const frames = new Frames(
    (paint) => {
      waiting = paint;
      return 1;
    },
    () => (waiting = null),
  );
  const tick = (now: number) => {
    const paint = waiting;
    waiting = null;
    paint?.(now);
    return paint !== null;
  };
  return { frames, tick };
}

test('every painter paints in turn while sound runs, and once more when it ends', () => {
  const { frames, tick } = clock();
  const painted: string[] = [];
  frames.add((now) => painted.push(`a${now}`));
  const end = frames.add((now) => painted.push(`b${now}`));
  expect(tick(0)).toBe(false);
  frames.run(true);
  frames.run(true);
  tick(1);
  end();
  tick(2);
  frames.run(false);
  tick(3);
  expect(tick(4)).toBe(false);
  expect(painted).toEqual(['a1', 'b1', 'a2', 'a3']);
});
