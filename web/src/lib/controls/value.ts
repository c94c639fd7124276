/** Settings as people write and read them, and where they lie on their scale. Pure functions. */
import type { Setting } from '../api/client';

type Span = Pick<Setting, 'minimum' | 'maximum' | 'scale'>;

/** Within a setting's range. */
export const within = (value: number, setting: Pick<Setting, 'minimum' | 'maximum'> | undefined): number =>
  clamp(value, setting?.minimum ?? -Infinity, setting?.maximum ?? Infinity);

export function clamp(value: number, low: number, high: number): number {
  return Math.min(Math.max(value, low), high);
}

/** Place of a value on its scale, 0 to 1. */
export function toShare(value: number, { minimum, maximum, scale }: Span): number {
  const [low, high] = [minimum ?? 0, maximum ?? 1];
  const share = scale === 'log' ? Math.log(value / low) / Math.log(high / low) : (value - low) / (high - low);
  return clamp(share, 0, 1);
}

/** The value at a place of the scale. */
export function fromShare(share: number, { minimum, maximum, scale }: Span): number {
  const [low, high] = [minimum ?? 0, maximum ?? 1];
  const at = clamp(share, 0, 1);
  return scale === 'log' ? low * (high / low) ** at : low + (high - low) * at;
}

/** A value rounded to what the scale resolves: three figures, or a tenth of a decibel. */
export function tidy(value: number, unit: string): number {
  if (unit === 'dB' || unit === 'bpm') return Math.round(value * 10) / 10;
  if (unit === '%') return Math.round(value * 1000) / 1000;
  if (value === 0) return 0;
  const digits = Math.max(0, 2 - Math.floor(Math.log10(Math.abs(value))));
  return Number(value.toFixed(Math.min(digits, 4)));
}

/** `-18.0 dB`, `4 : 1`, `1.25 kHz`, `100 %`. signed: a gain, which may go either way, has a plus; a range or a reduction has none. */
export function format(value: number, unit: string, offAt: number | null = null, signed = true): string {
  if (offAt !== null && value === offAt) return 'off';
  if (unit === 'dB') {
    const shown = value.toFixed(1);
    return Number(shown) === 0 ? '0.0 dB' : `${value > 0 && signed ? '+' : ''}${shown} dB`;
  }
  if (unit === '%') return `${Math.round(value * 100)} %`;
  if (unit === ':1') return `${Number(value.toPrecision(3))} : 1`;
  if (unit === 'Hz')
    return value >= 1000 ? `${Number((value / 1000).toPrecision(3))} kHz` : `${Math.round(value)} Hz`;
  if (unit === 'ms')
    return value >= 1000
      ? `${Number((value / 1000).toPrecision(3))} s`
      : `${Number(value.toPrecision(3))} ms`;
  return `${Number(value.toPrecision(3))}${unit ? ` ${unit}` : ''}`;
}

/** Of a setting: a plus only where it may go either way. */
export const formatSetting = (value: number, setting: Pick<Setting, 'unit' | 'off_at' | 'minimum'>) =>
  format(value, setting.unit, setting.off_at, (setting.minimum ?? 0) < 0);

/** Units as people write them, and what a number in them is in the setting's own. */
const UNITS: Record<string, Record<string, number>> = {
  dB: { db: 1, dbfs: 1, dbtp: 1, lu: 1, lufs: 1 },
  Hz: { hz: 1, khz: 1000, k: 1000 },
  ms: { ms: 1, s: 1000 },
  s: { s: 1, ms: 0.001 },
  '%': { '%': 0.01 },
  ':1': { ':1': 1 },
  bpm: { bpm: 1 },
};

/** A typed number: `-18`, `-6,5 dBFS`, `4:1`, `2k5`, `1.2 s`, `50 %`, `off`, `-inf`; or why it is none. */
export function parse(
  text: string,
  unit: string,
  offAt: number | null = null,
): { value: number } | { refused: string } {
  const plain = text.trim().toLowerCase().replace(',', '.').replace('\u2212', '-').replace(/\s+/g, '');
  const shown = unit === ':1' ? 'a ratio like 4:1' : `a number${unit ? ` in ${unit}` : ''}`;
  if (plain === 'off' || plain === '-inf' || plain === '-infinity')
    return offAt === null ? { refused: 'It cannot be off.' } : { value: offAt };
  const kilo = /^([+-]?\d+)k(\d+)(hz)?$/.exec(plain);
  if (kilo && unit === 'Hz') return { value: Number(`${kilo[1]}.${kilo[2]}`) * 1000 };
  const result = /^([+-]?(?:\d+\.?\d*|\.\d+))(.*)$/.exec(plain);
  if (!result) return { refused: `Type ${shown}.` };
  const [, number, suffix] = result;
  const known = UNITS[unit] ?? {};
  // A bare number of per cent is one; a share is written as 50, not as 0.5.
  if (!suffix) return { value: Number(number) * (unit === '%' ? 0.01 : 1) };
  const times = known[suffix];
  if (times === undefined) return { refused: `"${suffix}" does not fit: type ${shown}.` };
  return { value: Number((Number(number) * times).toPrecision(12)) };
}

/** A typed number within the limits of a setting, or why it cannot be. */
export function parseSetting(
  text: string,
  setting: Pick<Setting, 'unit' | 'off_at' | 'minimum' | 'maximum'>,
): { value: number } | { refused: string } {
  const read = parse(text, setting.unit, setting.off_at);
  if ('refused' in read) return read;
  const [low, high] = [setting.minimum ?? -Infinity, setting.maximum ?? Infinity];
  if (read.value >= low - 1e-9 && read.value <= high + 1e-9) return read;
  const limit = (value: number) => formatSetting(value, { ...setting, off_at: null });
  return { refused: `From ${limit(low)} to ${limit(high)}.` };
}
