import { afterEach, beforeEach, expect, test, vi } from 'vitest';
import type { Edit } from '../api/client';
import { EditQueue, HEARD_FIRST_MS, STORE_EVERY_MS, targetOf, type Waiting } from './edit-queue';
import { setOf } from './moves';

beforeEach(() => vi.useFakeTimers());
afterEach(() => vi.useRealTimers());

const drag = (id: string, value: number, name = 'threshold_db') => setOf('step', id, { [name]: value });

/** A server that answers when it is changes to. */
function server() {
  const sent: Waiting[] = [];
  const answers: (() => void)[] = [];
  let left = 0;
  const queue: EditQueue = new EditQueue(
    (next) =>
      new Promise((resolve) => {
        sent.push(next);
        answers.push(resolve);
      }),
    () => (left = queue.left),
  );
  const answer = async () => {
    answers.shift()!();
    await vi.advanceTimersByTimeAsync(STORE_EVERY_MS);
  };
  return { queue, sent, answer, left: () => left };
}

test('edits of one gesture overtake each other only where they move the same value', async () => {
  const { queue, sent, answer, left } = server();
  const word = 'keys 1';
  void queue.add(drag('a', -10), word);
  void queue.add(drag('a', -11), word);
  void queue.add(drag('a', -12), word);
  void queue.add(drag('b', -20), word);
  void queue.add(drag('b', -21, 'ratio'), word);
  void queue.add(drag('b', -22, 'ratio'), word);
  expect(left()).toBe(4);
  for (let n = 0; n < 4; n += 1) await answer();
  expect(sent.map(({ edit }) => edit)).toEqual([
    drag('a', -10),
    drag('a', -12),
    drag('b', -20),
    drag('b', -22, 'ratio'),
  ]);
  expect(left()).toBe(0);
});

test('no edit passes another, and what is not a plain value never overtakes', async () => {
  const { queue, sent, answer } = server();
  const remove: Edit = { op: 'remove_step', step_id: 'b' };
  void queue.add(drag('a', 1), 'g');
  void queue.add(drag('a', 2), 'g');
  void queue.add(remove, 'g');
  void queue.add(drag('a', 3), 'g');
  void queue.add(remove, 'g');
  for (let n = 0; n < 5; n += 1) await answer();
  expect(sent.map(({ edit }) => edit)).toEqual([drag('a', 1), drag('a', 2), remove, drag('a', 3), remove]);
});

test('an edit that the server fails on does not stop those behind it', async () => {
  const sent: Edit[] = [];
  const queue = new EditQueue(({ edit }) => {
    sent.push(edit);
    return sent.length === 1 ? Promise.reject(new Error('no')) : Promise.resolve();
  });
  const first = queue.add(drag('a', 1));
  const second = queue.add(drag('a', 2));
  await expect(first).rejects.toThrow('no');
  await expect(second).rejects.toThrow('no');
  expect(sent).toHaveLength(2);
});

test('a target is the set of values that are moved, in any order', () => {
  const two = setOf('lane', 'x', { level_db: 1, mute: true });
  expect(targetOf(two)).toBe(targetOf(setOf('lane', 'x', { mute: false, level_db: 2 })));
  expect(targetOf(two)).not.toBe(targetOf(setOf('lane', 'y', { mute: false, level_db: 2 })));
  expect(targetOf(setOf('session', null, { name: 'n' }))).toBe('session  name');
  expect(targetOf({ op: 'remove_step', step_id: 'a' })).toBeNull();
});

test('what could not be sent waits for the server, goes on being replaced, and keeps its place', async () => {
  const tried: Edit[] = [];
  let reachable = false;
  let changes = 0;
  const queue = new EditQueue(
    async ({ edit }) => {
      tried.push(edit);
      await Promise.resolve();
      if (!reachable) throw new Error('not reached');
    },
    () => (changes += 1),
    () => true,
  );
  const done = queue.add(drag('a', 1), 'g');
  await vi.advanceTimersByTimeAsync(STORE_EVERY_MS);
  expect(queue.paused).toBe(true);
  void queue.add(drag('a', 2), 'g');
  void queue.add({ op: 'remove_step', step_id: 'b' });
  expect(queue.edits).toEqual([drag('a', 2), { op: 'remove_step', step_id: 'b' }]);
  expect(changes).toBeGreaterThan(2);
  queue.resume();
  await vi.advanceTimersByTimeAsync(STORE_EVERY_MS);
  expect(queue.paused).toBe(true); // still away
  reachable = true;
  queue.resume();
  await vi.advanceTimersByTimeAsync(STORE_EVERY_MS);
  await done;
  expect(tried).toEqual([drag('a', 1), drag('a', 2), drag('a', 2), { op: 'remove_step', step_id: 'b' }]);
  expect(queue.left).toBe(0);
});

test('steps of one gesture are stored no more often than need be, the last one always', async () => {
  const { queue, sent, answer } = server();
  void queue.add(drag('a', 0), 'g');
  expect(sent.length).toBe(1); // the first at once
  answer().catch(() => undefined);
  for (let n = 1; n <= 20; n += 1) {
    void queue.add(drag('a', n), 'g');
    await vi.advanceTimersByTimeAsync(STORE_EVERY_MS / 20);
  }
  expect(sent.length).toBe(2);
  await answer();
  expect(sent.at(-1)).toMatchObject({ edit: drag('a', 20), number: 21 });
});

test('what is heard already is stored a little later, and in its turn', async () => {
  const { queue, sent, answer } = server();
  void queue.add(drag('a', 1), 'one', true);
  await vi.advanceTimersByTimeAsync(HEARD_FIRST_MS - 1);
  expect(sent).toHaveLength(0);
  void queue.add(drag('b', 2), 'two');
  await vi.advanceTimersByTimeAsync(2);
  await answer();
  await answer();
  expect(sent.map(({ edit }) => edit)).toEqual([drag('a', 1), drag('b', 2)]);
});
