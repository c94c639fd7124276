/** What is said to those who cannot see the page, of what happened by itself. Pure functions. */
import type { ScopeAnswer } from '../api/client';
import { numberText } from '../number';

const signed = (value: number) => numberText(value, 1, true);

/** The ledger in a sentence; empty where nothing could be measured. what: the scope; where: the passage. */
export function ledgerSentence(
  { before, after, reduction }: ScopeAnswer['ledger'],
  what: string,
  where: string,
): string {
  if (before.sample_peak_dbfs <= -120 && after.sample_peak_dbfs <= -120) return `${what}, ${where}: silence.`;
  const parts = [`peak ${signed(after.sample_peak_dbfs - before.sample_peak_dbfs)} dB`];
  // Null where there is too little sound to measure.
  const [from, to] = [before.integrated_lufs, after.integrated_lufs];
  if (from !== null && to !== null) parts.push(`loudness ${signed(to - from)} LU`);
  if (reduction && !reduction.rises)
    parts.push(`gain reduction up to ${numberText(reduction.largest_db)} dB`);
  return `${what}, ${where}: ${parts.join(', ')}.`;
}

export function playingSentence(playing: boolean, sounding: boolean, where: string): string {
  if (!playing) return 'Stopped.';
  return sounding ? `Playing ${where}.` : 'Waiting for sound.';
}

/**
 * Says the last of what it is told, once nothing else has been told for a while: a drag or a busy minute does not chatter.
 */
export class Calm {
  private timer: ReturnType<typeof setTimeout> | undefined;
  private last = '';

  constructor(
    private readonly say: (text: string) => void,
    private readonly wait_ms: number,
  ) {}

  tell(text: string): void {
    clearTimeout(this.timer);
    if (text === this.last) return;
    this.timer = setTimeout(() => {
      this.last = text;
      this.say(text);
    }, this.wait_ms);
  }

  stop(): void {
    clearTimeout(this.timer);
  }
}
