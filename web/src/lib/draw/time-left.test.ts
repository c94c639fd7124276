import { describe, expect, it } from 'vitest';
import { leftText } from './time-left';

describe('time left', () => {
  it('says nothing before it can be told', () => {
    expect(leftText({ seconds_left: null, rough: true })).toBe('');
  });

  it.each([
    [0.2, ', roughly 5 s left'],
    [17, ', roughly 20 s left'],
    [58, ', roughly 60 s left'],
    [61, ', roughly 2 min left'],
    [400, ', roughly 7 min left'],
  ])('rounds what is rough: %s s', (seconds_left, text) => {
    expect(leftText({ seconds_left, rough: true })).toBe(text);
  });

  it.each([
    [0.2, ', 1 s left'],
    [17.2, ', 18 s left'],
    [118, ', 118 s left'],
    [121, ', 3 min left'],
  ])('is exact once it is known: %s s', (seconds_left, text) => {
    expect(leftText({ seconds_left, rough: false })).toBe(text);
  });
});
