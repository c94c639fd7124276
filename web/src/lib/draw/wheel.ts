/**
 * The wheel. Over a picture it zooms; over a value it scrolls like everywhere else, unless the value has the focus or Ctrl is held.
 * What began as scrolling goes on as scrolling, whatever comes under the pointer meanwhile.
 */

/** Turns that follow each other within this are one run. */
export const RUN_MS = 400;
/** And one edit, which may rest for longer. */
const GESTURE_MS = 600;

let scrolledAt = -Infinity;
let watched = false;
/** The run that is one edit; outside of the attachments, which are made anew when what they stand on is edited. */
let run = { on: null as HTMLElement | null, gesture: '', until: -Infinity };
function watch(): void {
  if (watched) return;
  watched = true;
  window.addEventListener(
    'wheel',
    (event) => {
      if (!(event.target as Element).closest('[data-wheel]')) scrolledAt = event.timeStamp;
    },
    { capture: true, passive: true },
  );
}

/** Attach to a picture. */
export const wheeled =
  <E extends HTMLElement | SVGElement>(turn: (event: WheelEvent, element: E) => void) =>
  (element: E) => {
    const take = (event: Event) => {
      event.preventDefault();
      turn(event as WheelEvent, element);
    };
    element.addEventListener('wheel', take, { passive: false });
    return () => element.removeEventListener('wheel', take);
  };

/** Attach to a value: told of one step up or down, and of the word that all steps of one run share. */
export const valueWheel =
  (turn: (steps: 1 | -1, event: WheelEvent, gesture: string) => void) => (element: HTMLElement) => {
    const take = (event: WheelEvent) => {
      const meant = event.ctrlKey || element.contains(document.activeElement);
      if (!meant || event.timeStamp - scrolledAt < RUN_MS) {
        scrolledAt = event.timeStamp;
        return;
      }
      event.preventDefault();
      const same = run.on === element && event.timeStamp <= run.until;
      run = {
        on: element,
        gesture: same ? run.gesture : crypto.randomUUID(),
        until: event.timeStamp + GESTURE_MS,
      };
      if (event.deltaY) turn(event.deltaY < 0 ? 1 : -1, event, run.gesture);
    };
    watch();
    element.dataset['wheel'] = '';
    element.addEventListener('wheel', take, { passive: false });
    return () => element.removeEventListener('wheel', take);
  };
