/** Settings as people write and read them, and where they lie on their scale. Pure functions. */
import type { Setting } from '../api/client';

type Span = Pick<Setting, 'minimum' | 'maximum' | 'scale'>;

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

/** `-18.0 dB`, `4 : 1`, `1.25 kHz`, `100 %`. */
export function format(value: number, unit: string, offAt: number | null = null): string {
  if (offAt !== null && value === offAt) return 'off';
  if (unit === 'dB') {
    const shown = value.toFixed(1);
    return Number(shown) === 0 ? '0.0 dB' : `${value > 0 ? '+' : ''}${shown} dB`;
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

/** A typed number: `-18`, `4:1`, `2k5`, `1.2 s`, `50 %`, `off`. Null if it is none. */
export function parse(text: string, unit: string, offAt: number | null = null): number | null {
  const plain = text.trim().toLowerCase().replace(',', '.').replace(/\s+/g, '');
  if (plain === 'off' && offAt !== null) return offAt;
  const kilo = /^([+-]?\d+)k(\d*)(hz)?$/.exec(plain);
  if (kilo) return Number(`${kilo[1]}.${kilo[2] || 0}`) * 1000;
  const found = /^([+-]?(?:\d+\.?\d*|\.\d+))(k?hz|ms|s|db|%|:1|bpm)?$/.exec(plain);
  if (!found) return null;
  const number = Number(found[1]);
  const suffix = found[2];
  if (unit === '%') return number / 100;
  if (suffix === 'khz') return number * 1000;
  if (suffix === 's' && unit === 'ms') return number * 1000;
  return number;
}
