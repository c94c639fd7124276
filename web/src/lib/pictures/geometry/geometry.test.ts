/** Where things lie in the pictures: figures in, pixels out. */
import { describe, expect, it } from 'vitest';
import type { ScopeAnswer, Spectrum } from '../../api/client';
import { pixel, valueAt } from '../../draw/scale';
import { atHz, decibelGrid, frequencyGrid, gain, type Shape } from '../../draw/shapes';
import * as bands from './bands';
import * as bite from './bite';
import * as curve from './curve';
import * as envelopes from './envelopes';
import * as response from './response';
import * as spectrum from './spectrum';
import * as timeline from './timeline';
import * as wave from './wave';

const BOX = { width: 540, height: 220 };

function biteOf(changes: Partial<ScopeAnswer['bite']> = {}): ScopeAnswer['bite'] {
  return {
    before_db: [-6, -20, -30, -12],
    after_db: [-12, -20, -30, -14],
    after_rms_db: [-22, -30, -40, -24],
    before_low: [-0.5, -0.1, -0.03, -0.25],
    before_high: [0.4, 0.1, 0.03, 0.2],
    after_low: [-0.25, -0.1, -0.03, -0.2],
    after_high: [0.25, 0.1, 0.03, 0.2],
    reduction_db: [6, 0, 0, 2],
    detector_db: [-6, -20, -30, -12],
    touched: [0.25, 0, 0, 0.05],
    rows: {},
    ...changes,
  };
}

const areas = (shapes: Shape[], ink: string, pattern?: string) =>
  shapes.filter((s) => s.type === 'area' && s.fill.ink === ink && s.fill.pattern === pattern);
const boxes = (shapes: Shape[], ink: string) => shapes.filter((s) => s.type === 'box' && s.fill.ink === ink);
const texts = (shapes: Shape[]) => shapes.flatMap((s) => (s.type === 'text' ? [s.text] : []));
/** All points of a picture's shapes that have any. */
const points = (shapes: Shape[]): [number, number][] =>
  shapes.flatMap((s): [number, number][] =>
    s.type === 'area'
      ? s.xs.flatMap((x, i): [number, number][] => [[x, s.upper[i]!], [x, s.lower[i]!]]) // prettier-ignore
      : s.type === 'line'
        ? s.xs.map((x, i): [number, number] => [x, s.ys[i]!])
        : s.type === 'clip'
          ? points(s.shapes)
          : [],
  );

describe('the level picture', () => {
  it('fits its axis to the sound in steps of six decibels, with the threshold in sight', () => {
    const plain = bite.frameOf(biteOf(), null, BOX).levels;
    expect(plain.low / 6).toBe(Math.round(plain.low / 6));
    expect(plain.high).toBeCloseTo(0);
    expect(plain.low).toBeLessThanOrEqual(-40);
    const deep = bite.frameOf(biteOf(), -70, BOX).levels;
    expect(deep.low).toBeLessThan(-70);
    const quiet = bite.frameOf(
      biteOf({ before_db: [-50, -52], after_db: [-50, -52], after_rms_db: [-58, -60] }),
      null,
      BOX,
    );
    expect(quiet.levels.high).toBeLessThanOrEqual(-42);
    expect(quiet.levels.high - quiet.levels.low).toBeGreaterThanOrEqual(24);
  });

  it('shows no more than 60 dB of a gated sound, and something where there is none', () => {
    const gated = bite.frameOf(biteOf({ after_rms_db: [-80, -82, -80, -30] }), null, BOX).levels;
    expect(gated.high - gated.low).toBeLessThanOrEqual(66);
    const silent = bite.frameOf(
      biteOf({ before_db: [-90], after_db: [-90], after_rms_db: [-90] }),
      null,
      BOX,
    ).levels;
    expect(silent.high).toBeGreaterThan(silent.low);
  });

  it('hatches what was taken, from before down to after', () => {
    const frame = bite.frameOf(biteOf(), -18, BOX);
    const shapes = bite.shapesOf(biteOf(), frame, false, null);
    const [taken] = areas(shapes, 'taken', 'hatch');
    expect(taken).toMatchObject({ type: 'area' });
    if (taken?.type !== 'area') return;
    expect(taken.upper[0]).toBeCloseTo(pixel(-6, frame.levels));
    expect(taken.lower[0]).toBeCloseTo(pixel(-12, frame.levels));
    // Where nothing was taken there is nothing between the two.
    expect(taken.upper[1]).toBeCloseTo(taken.lower[1]!);
    // RMS lies below the peak.
    const [, rms] = areas(shapes, 'after');
    if (rms?.type === 'area') expect(rms.upper[0]).toBeCloseTo(pixel(-22, frame.levels));
  });

  it('marks reductions beyond the warning only, and states of the gate by their height', () => {
    const states = biteOf({ rows: { gate_state: [3, 2, 1, 0] } });
    const frame = bite.frameOf(states, null, BOX);
    const shapes = bite.shapesOf(states, frame, false, 3);
    expect(boxes(shapes, 'taken')).toHaveLength(1);
    const heights = boxes(shapes, 'key').map((s) => (s.type === 'box' ? s.height : 0));
    expect(heights).toEqual([10, 5, 5]);
    expect(bite.says(states, -18)).toContain('Gain reduction up to 6.0 dB');
    expect(bite.says(states, -18)).toContain('Fully open 25 % of the time');
  });

  it('keeps everything inside the picture', () => {
    const frame = bite.frameOf(biteOf(), -18, BOX);
    const shapes = [...bite.grid(frame), ...bite.shapesOf(biteOf(), frame, true, null)];
    for (const [x, y] of points(shapes)) {
      expect(x).toBeGreaterThanOrEqual(bite.LEFT);
      expect(x).toBeLessThanOrEqual(BOX.width - bite.RIGHT);
      expect(y).toBeGreaterThanOrEqual(0);
      expect(y).toBeLessThanOrEqual(BOX.height);
    }
  });
});

describe('the waveform', () => {
  it('folds magnitudes for the one-sided view', () => {
    const two = wave.waveOf(biteOf(), [0, 4], 'two', 1);
    const one = wave.waveOf(biteOf(), [0, 4], 'one', 2);
    expect(two.low[0]).toBe(-0.5);
    expect([one.high[0], one.low[0]]).toEqual([1, 0]);
    expect(wave.cuts(two)).toBe(2);
  });

  it('has the ceiling in sight even when the sound is soft', () => {
    const ys = wave.axisOf(wave.waveOf(biteOf(), [2, 3], 'two', 1), 0.9, 'two', BOX);
    expect(ys.high).toBeGreaterThan(0.9);
    expect(wave.axisOf(null, null, 'one', BOX).low).toBe(0);
  });

  it('scrolls with the playhead at three quarters, and stops at the ends', () => {
    expect(wave.windowAround(5, 0, 10, 1000)).toEqual([350, 550]);
    expect(wave.windowAround(0, 0, 10, 1000)).toEqual([0, 200]);
    expect(wave.windowAround(10, 0, 10, 1000)).toEqual([800, 1000]);
    expect(wave.windowAround(0.5, 0, 1, 100)).toEqual([0, 100]);
  });

  it('labels decibels on both sides of a two-sided wave', () => {
    const labels = texts(wave.grid({ low: -1, high: 1, from: 200, to: 20 }, 'two', BOX));
    expect(labels.filter((label) => label === '-6')).toHaveLength(2);
  });
});

describe('the curve', () => {
  const input_db = Array.from({ length: 181 }, (_, i) => -90 + i / 2);
  const compressor: curve.Curve = {
    input_db,
    output_db: input_db.map((v) => (v > -20 ? -20 + (v + 20) / 4 : v)),
    histogram_db: [-30, -18],
    histogram: [0.75, 0.25],
  };

  it('reads the output level off the curve', () => {
    expect(curve.outputAt(compressor, -40)).toBe(-40);
    expect(curve.outputAt(compressor, 0)).toBe(-15);
    expect(curve.says(compressor, -20)).toContain('above it 25 % of the time');
  });

  it('draws levels below the threshold pale', () => {
    const axes = curve.axesOf(false, BOX);
    const alphas = boxes(curve.shapesOf(compressor, axes, -20), 'key').map((s) =>
      s.type === 'box' ? s.fill.alpha : 0,
    );
    expect(alphas).toEqual([0.4, 1]);
    expect(valueAt(pixel(-20, axes.xs), axes.xs)).toBeCloseTo(-20);
  });

  it('keeps points in order while one is dragged past its neighbours', () => {
    const three: curve.Point[] = [[-60, -60], [-30, -30], [0, -10]]; // prettier-ignore
    expect(curve.movePoint(three, 1, -90, 50)[1]).toEqual([-59.5, 12]);
    expect(curve.movePoint(three, 1, 20, -200)[1]).toEqual([-0.5, -120]);
    const added = curve.addPoint(three, -44.04, -50);
    expect(added).toEqual({ at: 1, points: [[-60, -60], [-44, -50], [-30, -30], [0, -10]] }); // prettier-ignore
    expect(curve.addPoint(three, -30.2, 0)).toBeNull();
    const full = Array.from({ length: curve.MAX_POINTS }, (_, i): curve.Point => [-80 + 5 * i, -80]);
    expect(curve.addPoint(full, -77.5, 0)).toBeNull();
  });
});

describe('pictures over frequency', () => {
  const axes = response.axesOf(BOX);

  it('places decades evenly and names them', () => {
    const [hundred, thousand, ten] = [100, 1000, 10_000].map((hz) => atHz(hz, axes.xs)) as [
      number,
      number,
      number,
    ];
    expect(thousand - hundred).toBeCloseTo(ten - thousand);
    expect(texts(frequencyGrid(axes.xs, axes.ys, 0))).toEqual([
      '20',
      '50',
      '100',
      '200',
      '500',
      '1k',
      '2k',
      '5k',
      '10k',
      '20k',
    ]);
    expect(atHz(5, axes.xs)).toBe(axes.xs.from);
  });

  it('has a handle for each band that is on; corners without a gain lie at zero', () => {
    const settings = { band1_kind: 'high-pass', band1_frequency_hz: 80, band1_gain_db: 9, band2_kind: 'bell', band2_frequency_hz: 1000, band2_gain_db: 6, band3_kind: 'off', band4_kind: 'off' }; // prettier-ignore
    const result = response.handles(settings, axes);
    expect(result.map((handle) => handle.band)).toEqual([1, 2]);
    expect(result[0]!.y).toBeCloseTo(pixel(0, axes.ys));
    expect(result[1]!.y).toBeCloseTo(pixel(6, axes.ys));
  });

  const levels: Spectrum = {
    fraction: 6, frequency_hz: [100, 1000, 10_000], before_db: [-20, -30, -50], after_db: [-20, -36, -50], taken_db: [-90, -40, -90],
    key_db: [-12, 0, -3], cut_db: [0, -6, 0], hop_s: 0.1, moving_before_db: [[-10, -20, -30]], moving_after_db: [[-10, -20, -30]],
  }; // prettier-ignore

  it('reaches to the loudest band and shows the moving picture at the playhead', () => {
    const { ys } = spectrum.axesOf(levels, BOX);
    expect(ys.high).toBe(-12);
    expect(ys.high - ys.low).toBe(72);
    const average = spectrum.shapesOf(levels, spectrum.axesOf(levels, BOX), null, true);
    const moving = spectrum.shapesOf(levels, spectrum.axesOf(levels, BOX), 0, true);
    expect(points(average)).not.toEqual(points(moving));
    expect(spectrum.says(levels)).toContain('high mids -30.0 before, -36.0 after');
  });

  it('takes for corners what is in Hz and applies', () => {
    const described = [
      { name: 'low_hz', unit: 'Hz', type: 'number', when: { filter: ['band'] } },
      { name: 'high_hz', unit: 'Hz', type: 'number', when: { filter: ['off'] } },
      { name: 'level_db', unit: 'dB', type: 'number', when: {} },
    ] as unknown as Parameters<typeof spectrum.cornersOf>[0];
    expect(spectrum.cornersOf(described, { filter: 'band' }).map((s) => s.name)).toEqual(['low_hz']);
    expect(spectrum.bandOf({ frequency_hz: 4000, width_oct: 2, shape: 'band wide' })).toEqual([2000, 8000]);
    expect(spectrum.bandOf({ frequency_hz: 4000, width_oct: 2, shape: 'high-pass 12' })).toEqual([
      4000, 20000,
    ]);
  });

  it('gives each band its column between the dividers and keeps dividers apart', () => {
    const split = bands.axesOf(BOX);
    const columns = bands.columnsOf(3, [200, 2000], split);
    expect(columns[0]![0]).toBe(split.xs.from);
    expect(columns[1]).toEqual([atHz(200, split.xs), atHz(2000, split.xs)]);
    expect(bands.columnsOf(2, null, split)[0]![1]).toBeCloseTo((split.xs.from + split.xs.to) / 2);
    expect(bands.moveDivider([200, 2000], 0, 5000, false)[0]).toBeCloseTo(2000 / bands.MIN_RATIO);
    expect(bands.moveDivider([200, 2000], 0, 400, true)).toEqual([400, 4000]);
    const shown = [{ column: columns[0]!, taken_db: -6, heard_db: [-60, -40, -20, -10] }];
    const shapes = bands.shapesOf(null, shown, split);
    expect(boxes(shapes, 'taken')[0]).toMatchObject({ y: bands.levelAt(0, split) });
  });
});

describe('gain about zero', () => {
  it('is hatched below and grained above', () => {
    const shapes = gain([0, 1], [120, 80], 100, { ink: 'ink' });
    const [less] = areas(shapes, 'taken', 'hatch');
    const [more] = areas(shapes, 'after', 'grain');
    if (less?.type === 'area') expect([less.upper, less.lower]).toEqual([[100, 100], [120, 100]]); // prettier-ignore
    if (more?.type === 'area') expect([more.upper, more.lower]).toEqual([[100, 80], [100, 100]]); // prettier-ignore
    expect(less && more).toBeTruthy();
  });

  it('is labelled with a sign where it may go either way', () => {
    const axes = envelopes.axesOf(biteOf(), BOX);
    expect(texts(envelopes.grid(axes))).toContain('+6');
    expect(texts(decibelGrid({ low: -12, high: 0, from: 100, to: 0 }, 0, 10))).toEqual([
      '-12',
      '-9',
      '-6',
      '-3',
      '0',
    ]);
    expect(envelopes.says(biteOf())).toBe('Gain from -6.0 to 0.0 dB.');
  });
});

describe('the timeline', () => {
  it('draws only what is seen, with a column beyond each edge', () => {
    const overview = { revision: 1, length_s: 100, before_low: Array<number>(100).fill(-0.5), before_high: Array<number>(100).fill(0.5), after_low: Array<number>(100).fill(-0.25), after_high: Array<number>(100).fill(0.25) }; // prettier-ignore
    const shapes = timeline.shapesOf(overview, 100, { from_s: 50, to_s: 60 }, BOX);
    const [after] = areas(shapes, 'after');
    expect(after?.type === 'area' && after.xs.length).toBe(12);
    const [, y] = points([after!])[0]!;
    const middle = timeline.RULER + timeline.ROW + (BOX.height - timeline.RULER - timeline.ROW) / 2;
    expect(y).toBeLessThan(middle);
    const bars = timeline.ruler(
      { from_s: 0, to_s: 8 },
      { tempo_bpm: 120, beats_in_bar: 4, bar_one_s: 0 },
      BOX,
    );
    expect(texts(bars)[0]).toBe('1');
  });
});

describe('labels of corners', () => {
  it('share a row where they do not meet, and turn to the left at the right edge', () => {
    const labels = [
      { x: 60, text: 'Low cut 30 Hz' },
      { x: 90, text: 'Focus 45 Hz' },
      { x: 300, text: 'Top 4 kHz' },
      { x: 380, text: 'Above 12 kHz' },
    ];
    expect(spectrum.labelRows(labels, 400)).toEqual([
      { row: 0, left: false },
      { row: 1, left: false },
      { row: 0, left: false },
      { row: 1, left: true },
    ]);
  });
});
