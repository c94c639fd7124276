import { expect, test, vi } from 'vitest';
import type { ScopeAnswer } from '../api/client';
import { Calm, ledgerSentence, playingSentence } from './sentences';

const figures = (peak: number, loudness: number | null) =>
  ({ sample_peak_dbfs: peak, integrated_lufs: loudness }) as ScopeAnswer['ledger']['before'];
const ledger = (
  before: [number, number | null],
  after: [number, number | null],
  largest_db: number | null = null,
) =>
  ({
    before: figures(...before),
    after: figures(...after),
    reduction: largest_db === null ? null : { largest_db, rises: false },
  }) as ScopeAnswer['ledger'];

test('the ledger in a sentence', () => {
  expect(ledgerSentence(ledger([-2, -20], [-6, -22.04], 6.25), 'Compressor', 'Chorus')).toBe(
    'Compressor, Chorus: peak -4.0 dB, loudness -2.0 LU, gain reduction up to 6.3 dB.',
  );
  expect(ledgerSentence(ledger([-2, -20], [-1.97, -20]), 'Trim', 'Verse')).toBe(
    'Trim, Verse: peak 0.0 dB, loudness 0.0 LU.',
  );
  expect(ledgerSentence(ledger([-160, null], [-160, null]), 'Gate', 'Intro')).toBe('Gate, Intro: silence.');
  expect(ledgerSentence(ledger([-2, null], [-4, null]), 'Gate', 'Hit')).toBe('Gate, Hit: peak -2.0 dB.');
});

test('playing is what sounds', () => {
  expect(playingSentence(false, false, 'Chorus')).toBe('Stopped.');
  expect(playingSentence(true, false, 'Chorus')).toBe('Waiting for sound.');
  expect(playingSentence(true, true, 'Chorus')).toBe('Playing Chorus.');
});

test('only the last of many is said, and nothing twice', () => {
  vi.useFakeTimers();
  const said: string[] = [];
  const calm = new Calm((text) => said.push(text), 1000);
  for (let n = 0; n < 20; n += 1) {
    calm.tell(`${n}`);
    vi.advanceTimersByTime(100);
  }
  expect(said).toEqual([]);
  vi.advanceTimersByTime(1000);
  expect(said).toEqual(['19']);
  calm.tell('19');
  vi.advanceTimersByTime(2000);
  expect(said).toEqual(['19']);
  calm.tell('20');
  calm.stop();
  vi.advanceTimersByTime(2000);
  expect(said).toEqual(['19']);
  vi.useRealTimers();
});
