import { beforeEach, expect, test, vi } from 'vitest';
import { RUN_MS, valueWheel } from './wheel';

/** A page in small: what has the focus, and one slider; events as the browser gives them. */
let capture: (event: WheelEvent) => void = () => undefined;
const active = { element: null as unknown };
vi.stubGlobal('window', { addEventListener: (_: string, listener: typeof capture) => (capture = listener) });
vi.stubGlobal('document', {
  get activeElement() {
    return active.element;
  },
});

function slider() {
  const turns: [number, string][] = [];
  let take!: (event: WheelEvent) => void;
  const element = {
    dataset: {} as Record<string, string>,
    contains: (other: unknown) => other === element,
    addEventListener: (_: string, listener: typeof take) => (take = listener),
    removeEventListener: vi.fn(),
  };
  const attach = () => valueWheel((steps, _, gesture) => turns.push([steps, gesture]))(element as never);
  attach();
  return { element, turns, attach, take: (event: WheelEvent) => take(event) };
}
let now = 0;
function turned(
  target: object | null,
  take: ((event: WheelEvent) => void) | null,
  more: Partial<WheelEvent> = {},
) {
  const prevented = vi.fn();
  const event = {
    timeStamp: (now += 30),
    deltaY: -120,
    ctrlKey: false,
    preventDefault: prevented,
    target: { closest: () => target },
    ...more,
  } as unknown as WheelEvent;
  capture(event);
  take?.(event);
  return prevented.mock.calls.length > 0;
}

beforeEach(() => {
  active.element = null;
  now += 10 * RUN_MS;
});

test('a wheel over a value scrolls', () => {
  const { element, turns, take } = slider();
  for (let i = 0; i < 24; i++) expect(turned(element, take)).toBe(false);
  expect(turns).toEqual([]);
});

test('with the focus, or with Ctrl held, it moves the value, and one run is one edit', () => {
  const { element, turns, take, attach } = slider();
  active.element = element;
  turned(element, take);
  attach(); // its strip was edited: the slider is drawn anew
  expect(turned(element, take, { deltaY: 120 })).toBe(true);
  expect(turns.map(([steps]) => steps)).toEqual([1, -1]);
  expect(turns[0]![1]).toBe(turns[1]![1]);
  active.element = null;
  now += 10 * RUN_MS;
  expect(turned(element, take, { ctrlKey: true })).toBe(true);
  expect(turns[2]![1]).not.toBe(turns[1]![1]);
});

test('what began as scrolling goes on as scrolling, also over the value that has the focus', () => {
  const { element, turns, take } = slider();
  active.element = element;
  turned(null, null); // the list
  for (let i = 0; i < 20; i++) expect(turned(element, take)).toBe(false);
  now += RUN_MS + 1;
  expect(turned(element, take)).toBe(true);
  expect(turns).toHaveLength(1);
});
