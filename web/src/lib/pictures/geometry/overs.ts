/** Where each format is above the true peak that is wanted, along the song: a row a format, a mark an over. */
import type { DeliveryCheck, CheckedFormat, Section } from '../../api/client';
import { clock, pixel, valueAt, type Axis } from '../../draw/scale';
import { box as filled, rule, text, within, type Box, type Shape } from '../../draw/shapes';

export const LEFT = 216;
export const RIGHT = 12;
export const TOP = 42;
export const BOTTOM = 22;
export const ROW = 24;
/** A mark of so much above fills its row. */
const FULL_DB = 3;
const MIN_HEIGHT = 4;
const MARK = 3;
/** So near to a mark a press is about it. */
const NEAR = 8;
const SECOND_STEPS = [1, 2, 5, 10, 15, 30, 60, 120, 300, 600];
const LABEL = 64;
/** A section of which no more than this is inside is none. */
const BARELY_S = 0.05;

export const heightOf = (checked: DeliveryCheck): number => TOP + ROW * checked.formats.length + BOTTOM;

export function timeAxis(checked: DeliveryCheck, { width }: Box): Axis {
  const low = checked.start_s;
  return { low, high: low + Math.max(checked.length_s, 0.1), from: LEFT, to: width - RIGHT };
}

export function gridShapes(checked: DeliveryCheck, sections: Section[], box: Box): Shape[] {
  const time = timeAxis(checked, box);
  const bottom = heightOf(checked) - BOTTOM;
  const fits = (time.to - time.from) / LABEL;
  const step = SECOND_STEPS.find((one) => (time.high - time.low) / one <= fits) ?? 1200;
  const shapes: Shape[] = [];
  for (let at = Math.ceil(time.low / step) * step; at <= time.high; at += step) {
    const x = pixel(at, time);
    shapes.push(rule(x, TOP, x, bottom, { ink: 'line' }));
    shapes.push(text(x, bottom + 11, clock(at).replace(/\.\d+$/, ''), 'center'));
  }
  checked.formats.forEach((one, row) => {
    const y = TOP + ROW * (row + 1);
    shapes.push(rule(LEFT, y, time.to, y, { ink: 'line' }), text(LEFT - 8, y - ROW / 2, one.label, 'right'));
  });
  for (const section of sections) {
    if (section.end_s <= time.low + BARELY_S || section.start_s >= time.high - BARELY_S) continue;
    const x = pixel(Math.max(section.start_s, time.low), time);
    shapes.push(rule(x, TOP - 6, x, bottom, { ink: 'soft', dash: [2, 3] }));
    shapes.push(within(time, { low: 0, high: 1, from: bottom, to: 0 }, [text(x + 3, TOP - 8, section.name)]));
  }
  return shapes;
}

/** The marks; those of the chosen format in full. */
export function markShapes(checked: DeliveryCheck, chosen: CheckedFormat | null, box: Box): Shape[] {
  const time = timeAxis(checked, box);
  return checked.formats.flatMap((one, row) => {
    const bottom = TOP + ROW * (row + 1);
    return one.overs.map(({ at_s, true_peak_dbtp }) => {
      const above = Math.min(Math.max(true_peak_dbtp - checked.true_peak_dbtp, 0) / FULL_DB, 1);
      const height = Math.max(above * (ROW - 2), MIN_HEIGHT);
      return filled(pixel(at_s, time) - MARK / 2, bottom - height, MARK, height, {
        ink: 'taken',
        alpha: one === chosen ? 1 : 0.6,
      });
    });
  });
}

/** The over that a press is about, with its format; null beside all of them. */
export function overAt(
  x: number,
  y: number,
  checked: DeliveryCheck,
  box: Box,
): { format: string; at_s: number } | null {
  const one = checked.formats[Math.floor((y - TOP) / ROW)];
  if (!one || y < TOP) return null;
  const time = timeAxis(checked, box);
  const reach = (NEAR / (time.to - time.from)) * (time.high - time.low);
  const at = valueAt(x, time);
  const near = one.overs.toSorted((a, b) => Math.abs(a.at_s - at) - Math.abs(b.at_s - at))[0];
  return near && Math.abs(near.at_s - at) <= reach ? { format: one.format, at_s: near.at_s } : null;
}

export function says(checked: DeliveryCheck): string {
  const parts = checked.formats.map(
    (one) => `${one.label} ${one.figures.true_peak_dbtp.toFixed(2)} dBTP, ${one.over_count} above`,
  );
  return `Above ${checked.true_peak_dbtp} dBTP from ${clock(checked.start_s)} on: ${parts.join('; ')}.`;
}
