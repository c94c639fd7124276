/** What a plate says: the change now while it plays, else the settings that matter most. */
import type { Step } from '../api/client';
import type { BlockHeader } from '../audio/protocol';
import { format } from '../controls/value';

export function says(step: Step, header: BlockHeader | null): string {
  if (step.bypass) return 'bypassed';
  const { settings } = step;
  if (step.kind === 'split') {
    const by = String(settings['by']);
    if (by === 'bands') return `${settings['slope']}${settings['phase'] === 'linear' ? ', linear' : ''}`;
    return `${step.lanes?.length ?? 0} lanes`;
  }
  const live = header?.steps[step.id];
  const door = header?.doors[step.id];
  if (door !== undefined && step.kind !== 'leveller') return door;
  if (live !== undefined) return format(live, 'dB');
  const db = (name: string) =>
    `${Number(settings[name]).toFixed(Number.isInteger(settings[name]) ? 0 : 1)} dB`;
  if (step.kind === 'gate') return `opens at ${db('threshold_db')}`;
  if (step.kind === 'limiter' || step.kind === 'clipper') return `ceiling ${db('ceiling_db')}`;
  if (step.kind === 'shaper')
    return `${format(Number(settings['attack_db']), '')} / ${format(Number(settings['sustain_db']), '')} dB`;
  if (step.kind === 'deesser') return `from ${format(Number(settings['frequency_hz']), 'Hz')}`;
  if (step.kind === 'leveller') return `to ${db('target_db')}`;
  if (step.kind === 'freecurve') return `${(settings['points'] as unknown[]).length} points`;
  if (step.kind === 'stereo') return `width ${format(Number(settings['width']), '%')}`;
  if (step.kind === 'equaliser') {
    const busy = [1, 2, 3, 4].filter((band) => {
      const kind = settings[`band${band}_kind`];
      return (
        kind === 'high-pass' ||
        kind === 'low-pass' ||
        (kind !== 'off' && settings[`band${band}_gain_db`] !== 0)
      );
    }).length;
    return busy === 1 ? '1 band' : `${busy} bands`;
  }
  if (step.kind === 'ducker') return `${db('depth_db')} by ${settings['by']}`;
  if (step.kind === 'echo')
    return settings['time_mode'] === 'note'
      ? String(settings['note'])
      : format(Number(settings['time_ms']), 'ms');
  if (step.kind === 'room') return `${settings['size']}, ${format(Number(settings['decay_s']), 's')}`;
  if (step.kind === 'saturator') return `${settings['character']} ${db('drive_db')}`;
  if (step.kind === 'lowend')
    return `${Number(settings['low_hz']).toFixed(0)} to ${Number(settings['high_hz']).toFixed(0)} Hz`;
  if (step.kind === 'trim') return format(Number(settings['gain_db']), 'dB');
  return `${Number(settings['ratio'])}:1 at ${Number(settings['threshold_db']).toFixed(0)} dB`;
}
