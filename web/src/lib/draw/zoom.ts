/** Zoom of the pictures over time: the wheel, and one hit. */
import { clamp } from '../controls/value';
import { wheeled } from './wheel';
import { workspace } from '../state/workspace.svelte';

/** Attach to a figure whose plot lies `left` and `right` pixels inside it. */
export function zooming(left: number, right: number): (element: HTMLElement) => () => void {
  return wheeled((event, element) => {
    const [from, to] = workspace.measuring.zoom;
    const bounds = element.getBoundingClientRect();
    const at = clamp((event.clientX - bounds.left - left) / (bounds.width - left - right), 0, 1);
    const width = clamp((to - from) * (event.deltaY < 0 ? 0.8 : 1.25), 0.004, 1);
    const start = clamp(from + (to - from) * at - width * at, 0, 1 - width);
    workspace.measuring.setZoom(start, start + width);
  });
}

const HIT_S = 0.16;

/** Show the loudest hit of what is drawn. */
export function zoomToHit(): void {
  const study = workspace.measuring.study;
  if (!study) return;
  const levels = study.bite.before_db;
  const at =
    study.bite_start_s +
    (levels.indexOf(Math.max(...levels)) / levels.length) * (study.bite_end_s - study.bite_start_s);
  const length = study.end_s - study.start_s;
  const start = clamp((at - HIT_S / 4 - study.start_s) / length, 0, Math.max(0, 1 - HIT_S / length));
  workspace.measuring.setZoom(start, Math.min(1, start + HIT_S / length));
}
