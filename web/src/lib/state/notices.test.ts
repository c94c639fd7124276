import { afterEach, beforeEach, expect, test, vi } from 'vitest';
import { Refused } from '../api/client';
import { Notices } from './notices.svelte';

beforeEach(() => void vi.useFakeTimers());
afterEach(() => void vi.useRealTimers());
const texts = (notices: Notices) => notices.list.map((notice) => notice.text);

test('notes go by themselves, errors stay, and nothing is said twice', () => {
  const notices = new Notices();
  notices.note('copied');
  notices.note('copied');
  notices.note('refused', 'error');
  notices.note('removed', 'note', { label: 'Undo', run: () => undefined });
  expect(texts(notices)).toEqual(['copied', 'refused', 'removed']);
  vi.advanceTimersByTime(7000);
  expect(texts(notices)).toEqual(['refused', 'removed']);
  vi.advanceTimersByTime(20_000);
  expect(texts(notices)).toEqual(['refused']);
  notices.dismiss(notices.list[0]!.id);
  expect(texts(notices)).toEqual([]);
});

test('a newer notice takes the place of one of its topic', () => {
  const notices = new Notices();
  notices.note('Snare muted.', 'note', undefined, 'mute');
  notices.note('Snare soloed.', 'note', undefined, 'solo');
  notices.note('Snare no longer muted.', 'note', undefined, 'mute');
  expect(texts(notices)).toEqual(['Snare soloed.', 'Snare no longer muted.']);
});

test('what is refused is said; a server that is away is said once by the page', async () => {
  const notices = new Notices();
  const refuse = (status: number) => () => Promise.reject(new Refused(status, `refused ${status}`));
  expect(await notices.attempt(() => Promise.resolve(3))).toBe(3);
  expect(await notices.attempt(refuse(422))).toBeUndefined();
  expect(await notices.attempt(refuse(0), true)).toBeUndefined();
  expect(texts(notices)).toEqual(['refused 422']);
  await expect(notices.attempt(() => Promise.reject(new Error('bug')))).rejects.toThrow('bug');
});
