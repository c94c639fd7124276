import { beforeEach, expect, test, vi } from 'vitest';
import type { Listener } from '../audio/audition';
import type { BlockHeader } from '../audio/protocol';
import { Listen } from './listening.svelte';

beforeEach(() => {
  vi.useFakeTimers();
  vi.stubGlobal('requestAnimationFrame', (call: () => void) => setTimeout(call, 16));
  vi.stubGlobal('cancelAnimationFrame', (id: number) => clearTimeout(id));
});

/** A connection that keeps what it was sent, and lets the test answer. */
function made() {
  const sent: Record<string, unknown>[] = [];
  const [notes, back, message] = [vi.fn(), vi.fn(), vi.fn()];
  const listening = new Listen({
    scope: () => ({ strip_id: 's', step_id: null, lane_id: null }),
    note: notes,
    message,
    back,
    passage: vi.fn(),
  });
  let server!: Listener;
  listening.open((listener) => {
    server = listener;
    return { send: (message) => sent.push(message), wake: () => Promise.resolve(), close: vi.fn() };
  });
  const types = () => sent.map(({ type }) => type);
  return { listening, server, sent, types, notes, back, message };
}
const header = {} as BlockHeader;

test('all that was chosen is told when the connection opens, and again when it is back', () => {
  const { listening, server, types, back, sent } = made();
  listening.setMonitor('mono');
  listening.listenTo('before');
  sent.length = 0;
  server.opened();
  expect(types()).toEqual(['passage', 'scope', 'listen', 'matched', 'monitor']);
  expect(sent.at(-1)).toEqual({ type: 'monitor', monitor: 'mono' });
  expect(back).not.toHaveBeenCalled();
  server.lost('', false);
  expect([listening.connected, listening.lost]).toEqual([false, true]);
  server.opened();
  expect(back).toHaveBeenCalledOnce();
});

test('without a connection nothing plays, and that is said', async () => {
  const { listening, notes, types } = made();
  await listening.play();
  expect(listening.playing).toBe(false);
  expect(types()).not.toContain('play');
  expect(notes).toHaveBeenCalledOnce();
});

test('it sounds while something is heard, and no longer 600 ms after', async () => {
  const { listening, server } = made();
  server.opened();
  await listening.play(3);
  expect([listening.playing, listening.sounding]).toEqual([true, false]);
  server.heard(header, 3.1, 4800, 0, 1);
  expect(listening.sounding).toBe(true);
  expect(listening.heardPosition()).toBeCloseTo(3.1, 1);
  vi.advanceTimersByTime(700);
  expect([listening.playing, listening.sounding]).toEqual([true, false]);
  server.message({ type: 'ended', epoch: 1 });
  expect(listening.playing).toBe(false);
  server.heard(header, 9, 4800, 0, 1);
  expect(listening.sounding).toBe(false);
});

test('a loop starts at its passage; a place that was set comes first, once', async () => {
  const { listening, server, sent } = made();
  server.opened();
  listening.setPassage({ start_s: 10, end_s: 20, name: 'Verse' });
  expect(listening.position_s).toBe(10);
  listening.seek(14);
  await listening.play();
  expect(sent.at(-1)).toEqual({ type: 'play', position_s: 14 });
  listening.stop();
  await listening.play();
  expect(sent.at(-1)).toEqual({ type: 'play', position_s: 10 });
  listening.stop();
  listening.setLoop(false);
  listening.seek(3);
  await listening.play();
  expect(sent.at(-1)).toEqual({ type: 'play', position_s: 3 });
});

test('comparing two orders ends with a gain of nothing', () => {
  const { listening, sent } = made();
  listening.setOrder(null);
  expect(sent).toEqual([]);
  listening.setOrder({ strip_id: 's', step_id: 'a', other_id: 'b', gain_db: -2 });
  listening.setOrder(null);
  expect(sent.map(({ gain_db }) => gain_db)).toEqual([-2, 0]);
});

test('what is no business of listening is passed on, a failure stops', async () => {
  const { listening, server, message, notes } = made();
  server.opened();
  await listening.play();
  server.message({ type: 'version', revision: 4 });
  expect(message).toHaveBeenCalledWith({ type: 'version', revision: 4 });
  server.message({ type: 'failed', why: 'no sound' });
  expect(notes).toHaveBeenCalledWith('no sound', 'error');
  expect(listening.playing).toBe(false);
  server.lost('deleted', true);
  expect(listening.lost).toBe(false);
});
