import { expect, test } from 'vitest';
import { BlockQueue, FADE_FRAMES, FIRST_BLOCKS } from './block-queue';

const QUANTUM = 128;
const FRAMES = 1024;

/** A block of one value on the left, its negative on the right. */
function block(sequence: number, value: number, version = 0, seam = 0, frames = FRAMES) {
  const left = new Float32Array(frames).fill(value);
  return { sequence, version, seam, left, right: left.map((v) => -v) };
}

function play(queue: BlockQueue, quanta: number): number[] {
  const heard: number[] = [];
  for (let n = 0; n < quanta; n += 1) {
    const left = new Float32Array(QUANTUM);
    const right = new Float32Array(QUANTUM);
    queue.fill(left, right);
    expect(left.every((v, i) => v + right[i]! === 0)).toBe(true);
    heard.push(...left);
  }
  return heard;
}

test('blocks follow each other and are counted', () => {
  const queue = new BlockQueue();
  queue.take(block(0, 1, 0, 0, 700)); // the first is cut by the latency
  queue.take(block(1, 2));
  queue.take(block(2, 3));
  const heard = play(queue, 13);
  expect(heard.slice(0, 700).every((v) => v === 1)).toBe(true);
  expect(heard.slice(700, 1664).every((v) => v === 2)).toBe(true);
  expect(queue.frames).toBe(1664);
  expect(queue.current).toEqual({ sequence: 1, offset: 964 });
});

test('a play begins once some blocks are there, or all there are, and waiting for them is no gap', () => {
  const queue = new BlockQueue();
  for (let n = 0; n < FIRST_BLOCKS - 1; n += 1) queue.take(block(n, 1));
  expect(play(queue, 5).every((v) => v === 0)).toBe(true);
  queue.take(block(FIRST_BLOCKS - 1, 1));
  expect(play(queue, 1)[0]).toBe(1);
  queue.clear();
  play(queue, 2); // faded out
  queue.take(block(0, 2));
  expect(play(queue, 1)[0]).toBe(0);
  queue.ending = true;
  expect(play(queue, 1)[0]).toBe(2);
  expect(queue.underruns).toBe(0);
});

test('a replaced block goes on from the one before without a fade', () => {
  const queue = new BlockQueue();
  for (let n = 0; n < 4; n += 1) queue.take(block(n, 1));
  play(queue, 4);
  expect(queue.take(block(1, 5, 1, 1))).toBe(true);
  expect(queue.take(block(2, 6, 1, 1))).toBe(true);
  expect(queue.take(block(3, 7, 1, 1))).toBe(true);
  const heard = play(queue, 28);
  expect(heard.slice(0, 512).every((v) => v === 1)).toBe(true);
  expect(heard[512]).toBe(5);
  expect(heard[512 + FRAMES]).toBe(6);
  expect(heard[512 + 2 * FRAMES]).toBe(7);
  expect(queue.underruns).toBe(0);
});

/** The largest step from one frame to the next. */
const steepest = (heard: number[], from: number, to: number) =>
  Math.max(...heard.slice(from, to).map((v, i) => Math.abs(v - heard[from + i - 1]!)));

test('one whose place has sounded is dropped, and the next border is crossfaded', () => {
  const queue = new BlockQueue();
  for (let n = 0; n < 3; n += 1) queue.take(block(n, 1));
  play(queue, 9); // block 1 has begun
  expect(queue.take(block(0, 0, 1, 0))).toBe(false);
  expect(queue.late).toBe(1);
  expect(queue.take(block(2, 0, 1, 0))).toBe(true);
  const heard = play(queue, 14);
  const border = 2 * FRAMES - 9 * QUANTUM;
  expect(heard[border - 1]).toBe(1);
  expect(steepest(heard, border, border + FADE_FRAMES)).toBeLessThan(0.0079); // a 128th
  expect(heard[border + FADE_FRAMES - 1]).toBe(0);
});

test('the block that sounds is replaced in the midst of it, crossfaded, and what follows is exact', () => {
  const queue = new BlockQueue();
  for (let n = 0; n < 4; n += 1) queue.take(block(n, 1));
  play(queue, 9);
  expect(queue.take(block(1, 0, 1, 1))).toBe(true);
  expect(queue.take(block(2, 0.5, 1, 1))).toBe(true);
  expect(queue.late).toBe(0);
  const heard = play(queue, 15);
  expect(heard[0]).toBeCloseTo(1 - 1 / FADE_FRAMES, 6);
  expect(steepest(heard, 1, FADE_FRAMES)).toBeLessThan(0.0079);
  const border = 2 * FRAMES - 9 * QUANTUM;
  expect(heard.slice(FADE_FRAMES, border).every((v) => v === 0)).toBe(true);
  expect(heard[border]).toBe(0.5); // of the same version: no fade
});

test('replaced shortly before its end, and again within the fade, it goes over to the next without a step', () => {
  const queue = new BlockQueue();
  for (let n = 0; n < 4; n += 1) queue.take(block(n, 1, 0, 0, n === 1 ? FRAMES - 100 : FRAMES));
  const before = play(queue, 15); // 28 frames of block 1 are left
  queue.take(block(1, 0, 1, 1, FRAMES - 100));
  queue.take(block(2, 0, 1, 1));
  let heard = play(queue, 1);
  expect(steepest([...before.slice(-1), ...heard], 1, QUANTUM + 1)).toBeLessThan(0.0079);
  queue.take(block(2, 1, 2, 2));
  queue.take(block(2, 0.5, 3, 2)); // both before a frame sounds
  heard = [...heard.slice(-1), ...play(queue, 2)];
  expect(steepest(heard, 1, heard.length)).toBeLessThan(0.0157); // two fades, one within the other
  expect(heard.at(-1)).toBe(0.5);
});

test('a shorter one that would have ended already is dropped', () => {
  const queue = new BlockQueue();
  for (let n = 0; n < 3; n += 1) queue.take(block(n, 1));
  play(queue, 5);
  expect(queue.take(block(0, 0, 1, 0, 512))).toBe(false);
  expect(queue.late).toBe(1);
});

test('where what it would have gone on with is not known, the last value is faded out', () => {
  const queue = new BlockQueue();
  for (let n = 0; n < FIRST_BLOCKS; n += 1) queue.take(block(n, 1));
  play(queue, 1);
  queue.take(block(FIRST_BLOCKS, -1, 2, 0));
  const heard = play(queue, 8 * FIRST_BLOCKS + 2);
  const border = FIRST_BLOCKS * FRAMES - QUANTUM;
  expect(Math.abs(heard[border]! - heard[border - 1]!)).toBeLessThan(0.016);
  expect(heard[border + FADE_FRAMES]).toBe(-1);
});

test('running dry is a gap once, and none at the end; both are let down gently', () => {
  const queue = new BlockQueue();
  for (let n = 0; n < FIRST_BLOCKS; n += 1) queue.take(block(n, 1));
  const heard = play(queue, 8 * FIRST_BLOCKS + 4);
  expect(queue.underruns).toBe(1);
  expect(heard[FIRST_BLOCKS * FRAMES]).toBe(1);
  expect(heard[FIRST_BLOCKS * FRAMES + FADE_FRAMES]).toBe(0);
  queue.take(block(FIRST_BLOCKS, 1)); // once it has begun it goes on with what there is
  expect(play(queue, 1)[0]).toBe(1);
  queue.ending = true;
  play(queue, 12);
  expect(queue.underruns).toBe(1);
  queue.clear();
  expect(queue.frames).toBe(0);
  expect(queue.take(block(0, 3))).toBe(true); // another play counts from the beginning
});
