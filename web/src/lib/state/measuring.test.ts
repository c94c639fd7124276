import { afterEach, beforeEach, expect, test, vi } from 'vitest';
import type { OverviewAnswer, ScopeAnswer } from '../api/client';
import { Measuring, OVERVIEW_SETTLE_MS, SERIES_SETTLE_MS, SETTLE_MS } from './measuring.svelte';

beforeEach(() => vi.useFakeTimers());
afterEach(() => vi.useRealTimers());

function made() {
  const answers: ((study: ScopeAnswer | null) => void)[] = [];
  let overviews = 0;
  const measuring = new Measuring({
    study: () => new Promise((resolve) => answers.push(resolve)),
    overview: () => Promise.resolve({ length_s: (overviews += 1) } as OverviewAnswer),
  });
  const answer = async (n: number, revision: number) => {
    answers[n]!({ revision } as ScopeAnswer);
    await vi.advanceTimersByTimeAsync(0);
  };
  return { measuring, answers, answer, overviews: () => overviews };
}

test('a drag is measured once, after it has settled, and what is shown is out of date until then', async () => {
  const { measuring, answers, answer } = made();
  measuring.looked();
  await answer(0, 1);
  expect(measuring.stale).toBe(false);
  for (let n = 0; n < 20; n += 1) {
    measuring.edited();
    expect(measuring.stale).toBe(true);
    vi.advanceTimersByTime(16);
  }
  expect(answers.length).toBe(1);
  vi.advanceTimersByTime(SETTLE_MS);
  expect(answers.length).toBe(2);
  expect(measuring.study?.revision).toBe(1);
  await answer(1, 2);
  expect(measuring.study?.revision).toBe(2);
  expect(measuring.stale).toBe(false);
});

test('a single edit is measured soon, also once it is stored; one that follows another waits for more', () => {
  const { measuring, answers } = made();
  measuring.edited(true);
  vi.advanceTimersByTime(40);
  measuring.edited(); // stored
  vi.advanceTimersByTime(SETTLE_MS);
  expect(answers.length).toBe(1);
  for (let n = 0; n < 5; n += 1) {
    measuring.edited(true);
    vi.advanceTimersByTime(SERIES_SETTLE_MS - 1);
  }
  expect(answers.length).toBe(1);
  vi.advanceTimersByTime(1);
  expect(answers.length).toBe(2);
});

test('an answer that an edit has overtaken neither shows nor counts as up to date', async () => {
  const { measuring, answer } = made();
  measuring.edited();
  vi.advanceTimersByTime(SETTLE_MS);
  measuring.edited();
  vi.advanceTimersByTime(SETTLE_MS);
  await answer(0, 1);
  expect(measuring.study).toBeNull();
  expect(measuring.stale).toBe(true);
  await answer(1, 2);
  expect([measuring.study?.revision, measuring.stale]).toEqual([2, false]);
});

test('an answer that comes between an edit and its question does not count as measured, and the question is asked', async () => {
  const { measuring, answers, answer } = made();
  measuring.looked();
  measuring.edited();
  await answer(0, 1);
  expect(measuring.stale).toBe(true);
  vi.advanceTimersByTime(SETTLE_MS);
  expect(answers.length).toBe(2);
  await answer(1, 2);
  expect([measuring.study?.revision, measuring.stale]).toEqual([2, false]);
});

test('a question that comes back without an answer is asked again, and not for ever', async () => {
  const { measuring, answers, answer } = made();
  measuring.looked();
  answers[0]!(null);
  await vi.advanceTimersByTimeAsync(SETTLE_MS);
  expect(answers.length).toBe(2);
  await answer(1, 3);
  expect([measuring.study?.revision, measuring.stale]).toEqual([3, false]);
  measuring.looked();
  for (let n = 2; n < answers.length; n += 1) {
    answers[n]!(null);
    await vi.advanceTimersByTimeAsync(60_000);
  }
  expect(answers.length).toBe(2 + 6);
  expect(measuring.stale).toBe(true);
});

test('the overview is asked for only where its picture is shown', async () => {
  const { measuring, answer, overviews } = made();
  measuring.looked();
  await answer(0, 1);
  expect(overviews()).toBe(0);
  measuring.showsOverview = true;
  measuring.edited();
  vi.advanceTimersByTime(SETTLE_MS);
  await answer(1, 2);
  expect(overviews()).toBe(0); // not before it has settled for longer
  await vi.advanceTimersByTimeAsync(OVERVIEW_SETTLE_MS);
  expect(overviews()).toBe(1);
  expect(measuring.overviewStale).toBe(false);
});
