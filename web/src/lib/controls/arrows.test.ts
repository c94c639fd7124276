import { describe, expect, it, vi } from 'vitest';
import type { Setting } from '../api/client';
import { arrowWay, nudged, pressGestures } from './arrows';

const key = (name: string, shiftKey = false) =>
  ({ key: name, shiftKey, preventDefault: vi.fn(), stopPropagation: vi.fn() }) as unknown as KeyboardEvent;
const decibels = { minimum: -60, maximum: 0, scale: 'linear' } as Setting;
const hertz = { minimum: 20, maximum: 20_000, scale: 'log' } as Setting;

describe('arrow keys', () => {
  it('move in time by a beat and in value by a hundredth of the scale, fine with Shift', () => {
    expect(arrowWay(key('ArrowRight'), 0.5)).toEqual({ time_s: 0.5, share: 0 });
    expect(arrowWay(key('ArrowLeft', true), 0.5)!.time_s).toBe(-0.01);
    expect(arrowWay(key('ArrowUp'), 0.5)!.share).toBe(0.01);
    expect(arrowWay(key('ArrowDown', true), 0.5)!.share).toBe(-0.002);
    expect(arrowWay(key('ArrowUp'), 0.5, true)!.share).toBe(1);
    expect(arrowWay(key('Enter'), 0.5)).toBeNull();
  });
  it('take the event, so that nothing else moves', () => {
    const event = key('ArrowUp');
    arrowWay(event, 0.5);
    expect(event.preventDefault).toHaveBeenCalled();
    expect(event.stopPropagation).toHaveBeenCalled();
  });
  it('step along the scale: decibels evenly, hertz by the same ratio; a switch goes over', () => {
    expect(nudged(-30, 0.01, decibels)).toBeCloseTo(-29.4);
    expect(nudged(1000, 0.01, hertz) / 1000).toBeCloseTo(nudged(100, 0.01, hertz) / 100, 4);
    expect([nudged(0, 1, decibels, true), nudged(1, -1, decibels, true), nudged(-3, 0, decibels)]).toEqual([
      1, 0, -3,
    ]);
  });
  it('are one edit while they follow each other', () => {
    vi.useFakeTimers();
    const word = pressGestures();
    const first = word();
    vi.advanceTimersByTime(1000);
    expect(word()).toBe(first);
    vi.advanceTimersByTime(1600);
    expect(word()).not.toBe(first);
    vi.useRealTimers();
  });
});
