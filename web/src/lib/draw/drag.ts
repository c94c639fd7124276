/** Dragging in a picture: one gesture from press to release, cancelled by Escape. */

export interface Place {
  /** In pixels of the picture. */
  x: number;
  y: number;
  /** One for all edits of the drag: they are undone together. */
  gesture: string;
  event: PointerEvent;
}

export interface Drag {
  /** Take hold; false refuses. A function puts back what was there before, if the drag is cancelled. */
  hold: (place: Place) => ((gesture: string) => void) | false | undefined;
  move: (place: Place) => void;
  release?: () => void;
}

/** Attach to what is taken hold of; places count from the picture (`.plot`) around it. */
export function dragged(drag: Drag): (element: HTMLElement) => () => void {
  return (element) => {
    let gesture: string | null = null;
    let restore: ((gesture: string) => void) | null = null;

    const place = (event: PointerEvent): Place => {
      const bounds = (element.closest('.plot') ?? element).getBoundingClientRect();
      return { x: event.clientX - bounds.left, y: event.clientY - bounds.top, gesture: gesture!, event };
    };
    const end = () => {
      gesture = null;
      restore = null;
      removeEventListener('keydown', cancel, true);
      drag.release?.();
    };
    const cancel = (event: KeyboardEvent) => {
      if (event.key !== 'Escape') return;
      event.preventDefault();
      event.stopPropagation();
      if (gesture) restore?.(gesture);
      end();
    };
    const press = (event: PointerEvent) => {
      if (event.button !== 0) return;
      gesture = crypto.randomUUID();
      const undo = drag.hold(place(event));
      if (undo === false) {
        gesture = null;
        return;
      }
      restore = undo ?? null;
      event.stopPropagation();
      element.setPointerCapture(event.pointerId);
      addEventListener('keydown', cancel, true);
    };
    const move = (event: PointerEvent) => {
      if (gesture) drag.move(place(event));
    };
    const release = () => {
      if (gesture) end();
    };

    element.addEventListener('pointerdown', press);
    element.addEventListener('pointermove', move);
    element.addEventListener('pointerup', release);
    element.addEventListener('pointercancel', release);
    return () => {
      removeEventListener('keydown', cancel, true);
      element.removeEventListener('pointerdown', press);
      element.removeEventListener('pointermove', move);
      element.removeEventListener('pointerup', release);
      element.removeEventListener('pointercancel', release);
    };
  };
}
