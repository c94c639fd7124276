import { afterEach, beforeEach, describe, expect, it, vi, type MockInstance } from 'vitest';
import { api } from '../api/client';
import { Asking, type Asker } from './asking.svelte';

describe('a question that takes long', () => {
  let fraction: number;
  let progress: MockInstance<typeof api.progress>;
  let told: unknown[];
  let asker: Asker;

  beforeEach(() => {
    vi.useFakeTimers();
    fraction = 0;
    progress = vi
      .spyOn(api, 'progress')
      .mockImplementation(() => Promise.resolve({ fraction, seconds_left: 8, rough: fraction < 0.25 }));
    told = [];
    asker = {
      tab: 'tab',
      version: { id: 7 },
      attempt: async (work) => {
        try {
          return await work();
        } catch (error) {
          told.push(error);
          return undefined;
        }
      },
    };
  });
  afterEach(() => {
    vi.useRealTimers();
    vi.restoreAllMocks();
  });

  /** A question that is answered by hand, and ends as a fetch does when it is called off. */
  function question() {
    let resolve: (value: string) => void = () => undefined;
    let reject: (error: Error) => void = () => undefined;
    const ask = vi.fn(
      (_: number, signal: AbortSignal) =>
        new Promise<string>((yes, no) => {
          resolve = yes;
          reject = no;
          signal.addEventListener('abort', () => no(new DOMException('called off', 'AbortError')));
        }),
    );
    return { ask, resolve: (value: string) => resolve(value), reject: (error: Error) => reject(error) };
  }

  it('tells how far it is, of its kind and tab, until the answer is there', async () => {
    const asking = new Asking(asker, 'aim');
    const { ask, resolve } = question();
    const answer = asking.answer(ask);
    expect(asking.fraction).toBe(0);
    fraction = 0.4;
    await vi.advanceTimersByTimeAsync(250);
    expect(asking.fraction).toBe(0.4);
    expect(asking.left).toEqual({ seconds_left: 8, rough: false });
    expect(progress.mock.calls).toEqual([[7, 'tab', 'aim']]);
    resolve('found');
    expect(await answer).toBe('found');
    expect(asking.fraction).toBeNull();
    await vi.advanceTimersByTimeAsync(1000);
    expect(progress).toHaveBeenCalledTimes(1);
  });

  it('is called off without a word', async () => {
    const asking = new Asking(asker, 'contrast');
    const { ask } = question();
    const answer = asking.answer(ask);
    asking.cancel();
    expect(asking.fraction).toBeNull();
    expect(await answer).toBeNull();
    expect(told).toEqual([]);
  });

  it('gives way to a newer one, whose fraction stays', async () => {
    const asking = new Asking(asker, 'bench');
    const [older, newer] = [question(), question()];
    const first = asking.answer(older.ask);
    const second = asking.answer(newer.ask);
    expect(await first).toBeNull();
    fraction = 0.7;
    await vi.advanceTimersByTimeAsync(250);
    expect(asking.fraction).toBe(0.7);
    newer.resolve('new');
    expect(await second).toBe('new');
  });

  it('is told of where it is refused, and can be asked again', async () => {
    const asking = new Asking(asker, 'aim');
    const refused = question();
    const answer = asking.answer(refused.ask);
    refused.reject(new Error('a loop'));
    expect(await answer).toBeNull();
    expect(told).toEqual([new Error('a loop')]);
    const again = question();
    const other = asking.answer(again.ask);
    again.resolve('yes');
    expect(await other).toBe('yes');
  });

  it('asks nothing without a session', async () => {
    const asking = new Asking({ ...asker, version: null }, 'aim');
    const { ask } = question();
    expect(await asking.answer(ask)).toBeNull();
    expect(ask).not.toHaveBeenCalled();
  });
});
