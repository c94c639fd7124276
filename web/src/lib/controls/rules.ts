/** Rules of what is no processor: strips, lanes, sends, keys. */
import type { Setting } from '../api/client';

export function decibels(
  name: string,
  label: string,
  minimum: number,
  maximum: number,
  ticks: number[],
  help: string,
): Setting {
  return {
    name, label, unit: 'dB', minimum, maximum, ticks, help, type: 'number', options: [], default: 0, scale: 'linear',
    off_at: null, group: '', when: {},
  }; // prettier-ignore
}

export const TRIM = decibels('trim_db', 'Trim', -60, 24, [-24, -12, 0, 12], 'Level before the path.');
export const LEVEL = decibels(
  'level_db',
  'Level',
  -90,
  12,
  [-48, -24, -12, 0],
  'Level after the path; -90 dB is off.',
);
export const PAN: Setting = {
  ...decibels(
    'pan',
    'Pan',
    -1,
    1,
    [-1, 0, 1],
    'Mono: equal power, -3 dB at the centre. Stereo: balance, nothing is ever raised.',
  ),
  unit: '',
};
export const SEND = decibels(
  'send_level_db',
  'Level',
  -90,
  12,
  [-48, -24, -12, 0],
  'Level of the send; -90 dB is off.',
);
export const KEY_TRIM = decibels(
  'key_trim_db',
  'Key trim',
  -60,
  60,
  [-40, -20, 0, 20, 40],
  'Gain of the key before its filter; the sound itself does not change.',
);
