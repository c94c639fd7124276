/** What a resonance tamer takes, hatched from the top, and where its handles stand. */
import type { Resonance, ScopeAnswer } from '../../api/client';
import { clamp } from '../../controls/value';
import { pixel } from '../../draw/scale';
import { area, atHz, db, within, type Shape } from '../../draw/shapes';
import type { Axes } from './spectrum';

/** A bell of the free mode is drawn this wide, in octaves. */
const FREE_OCT = 1 / 3;
/** Less than this cannot be seen. */
const MIN_DB = 0.2;

export interface Cut {
  hz: number;
  width_oct: number;
  db: number;
}

/** What is taken of each resonance in a column of the passage, or (null) the most over all of it. */
export function cutsOf(
  study: Pick<ScopeAnswer, 'bite'>,
  resonances: Resonance[],
  column: number | null,
): Cut[] {
  return Object.entries(study.bite.rows).flatMap(([name, values]) => {
    const [what, number, hz] = name.split(' ');
    if (what !== 'cut' || !values.length) return [];
    const taken = column === null ? Math.max(...values) : values[clamp(column, 0, values.length - 1)]!;
    return [{ hz: Number(hz), width_oct: resonances[Number(number)]?.width_oct ?? FREE_OCT, db: taken }];
  });
}

/** The column of the passage at a time. */
export function columnAt(study: ScopeAnswer, at_s: number): number | null {
  const { bite, bite_start_s, bite_end_s } = study;
  const count = Object.values(bite.rows)[0]?.length ?? 0;
  if (!count || at_s < bite_start_s || at_s > bite_end_s) return null;
  return Math.min(count - 1, Math.floor(((at_s - bite_start_s) / (bite_end_s - bite_start_s)) * count));
}

const STEPS = 9;

/** Each cut as a hatched bell that hangs from the top. */
export function shapesOf(cuts: Cut[], { xs, ys }: Axes): Shape[] {
  const shapes = cuts
    .filter((cut) => cut.db >= MIN_DB)
    .map((cut) => {
      const octaves = Array.from({ length: STEPS }, (_, n) => (n / (STEPS - 1) - 0.5) * 2.5 * cut.width_oct);
      const px = octaves.map((octave) => atHz(cut.hz * 2 ** octave, xs));
      const depth = octaves.map((octave) => cut.db / (1 + ((2 * octave) / cut.width_oct) ** 2));
      const bottom = depth.map((value) => pixel(Math.max(ys.low, ys.high - value), ys));
      return area(px, px.map(() => ys.to), bottom, { ink: 'taken', pattern: 'hatch' }); // prettier-ignore
    });
  return [within(xs, ys, shapes)];
}

/** Where a handle stands: at its frequency, as deep as its share of its height. */
export const handleAt = (one: Resonance, { xs, ys }: Axes): { x: number; y: number } => ({
  x: atHz(one.frequency_hz, xs),
  y: pixel(ys.high - one.height_db * one.share, ys),
});

/** What a depth that a hand asks for means: a share of the height; more than the height makes it higher. */
export function depthOf(
  one: Resonance,
  depth_db: number,
  most_db: number,
): Pick<Resonance, 'share' | 'height_db'> {
  const depth = clamp(depth_db, 0, most_db);
  if (depth > one.height_db || one.height_db === 0)
    return { share: 1, height_db: Math.round(depth * 10) / 10 };
  return { share: Math.round((depth / one.height_db) * 100) / 100, height_db: one.height_db };
}

export function says(resonances: Resonance[], cuts: Cut[], remark: string): string {
  const audible = cuts.filter((cut) => cut.db >= MIN_DB);
  const taken = audible.map((cut) => `${db(cut.db)} dB at ${Math.round(cut.hz)} Hz`).join(', ');
  return `${remark || `${resonances.length} resonances`}. ${taken ? `At most taken: ${taken}.` : 'Nothing is taken.'}`;
}
