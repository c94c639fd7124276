import { afterEach, beforeEach, expect, test, vi } from 'vitest';
import { Reconnecting, WAITS_MS, type Line } from './reconnecting';

beforeEach(() => vi.useFakeTimers());
afterEach(() => vi.useRealTimers());

function server() {
  const lines: (Line & { sent: string[] })[] = [];
  const events: string[] = [];
  const socket = new Reconnecting(
    () => {
      const line = {
        readyState: 0,
        sent: [] as string[],
        send: (data: string) => void line.sent.push(data),
        close: () => line.onclose?.({ code: 1005, reason: '' }),
        onopen: null as (() => void) | null,
        onclose: null as Line['onclose'],
        onmessage: null as Line['onmessage'],
      };
      lines.push(line);
      return line;
    },
    {
      opened: () => events.push('open'),
      lost: (reason, final) => events.push(`${final ? 'refused' : 'lost'} ${reason}`.trim()),
      message: (data) => events.push(String(data)),
    },
  );
  const open = () => {
    const line = lines.at(-1)!;
    line.readyState = 1;
    line.onopen!();
  };
  const drop = (code = 1006, reason = '') => {
    const line = lines.at(-1)!;
    line.readyState = 3;
    line.onclose!({ code, reason });
  };
  return { socket, lines, events, open, drop };
}

test('it comes back after a loss, told once, and tries ever more seldom', () => {
  const { socket, lines, events, open, drop } = server();
  open();
  expect(socket.send('one')).toBe(true);
  lines[0]!.onmessage!({ data: 'hello' });
  drop();
  expect(socket.send('two')).toBe(false);
  for (const wait of [...WAITS_MS, WAITS_MS.at(-1)!]) {
    const count = lines.length;
    vi.advanceTimersByTime(wait! - 1);
    expect(lines.length).toBe(count);
    vi.advanceTimersByTime(1);
    expect(lines.length).toBe(count + 1);
    drop();
  }
  vi.advanceTimersByTime(WAITS_MS.at(-1)!);
  open();
  expect(events).toEqual(['open', 'hello', 'lost', 'open']);
  drop();
  vi.advanceTimersByTime(WAITS_MS[0]!);
  expect(lines.length).toBe(2 + WAITS_MS.length + 1 + 1);
});

test('what is refused or closed stays closed', () => {
  const first = server();
  first.drop(4404, 'there is no session 7');
  vi.advanceTimersByTime(60_000);
  expect(first.lines.length).toBe(1);
  expect(first.events).toEqual(['refused there is no session 7']);
  const second = server();
  second.open();
  second.socket.close();
  vi.advanceTimersByTime(60_000);
  expect(second.lines.length).toBe(1);
  expect(second.events).toEqual(['open']);
});
