/** What of a lane is set by a rule. */
import type { Setting } from '../api/client';

export const LEVEL: Setting = {
  name: 'level_db',
  label: 'Level',
  unit: 'dB',
  type: 'number',
  minimum: -90,
  maximum: 24,
  options: [],
  default: 0,
  help: 'How loud the lane lies in the sum; -90 dB is off.',
  scale: 'linear',
  ticks: [-48, -24, -12, 0, 12],
  off_at: -90,
  group: 'Lane',
  when: {},
};
