/** What of a lane is set by a rule. */
import type { Setting } from '../api/client';
import { decibels } from '../controls/rules';

const HELP = 'How loud the lane lies in the sum; -90 dB is off.';
export const LEVEL: Setting = {
  ...decibels('level_db', 'Level', -90, 24, [-48, -24, -12, 0, 12], HELP),
  off_at: -90,
};
