/** The stretch a loudness is measured over: the whole song, a section, or a range. Pure functions. */
import type { Section, Stretch } from '../api/client';

/** The value of a stretch in a list of choices: nothing for the whole song, a section's id, or `range`. */
export function overValue(over: Stretch): string {
  if (over.section_id) return over.section_id;
  return over.start_s === null || over.start_s === undefined ? '' : 'range';
}

/** The stretch that a choice means; `passage` is what is listened to now. */
export function stretchOf(value: string, passage: { start_s: number; end_s: number }): Stretch {
  if (value === '') return {};
  if (value === 'passage') return { start_s: passage.start_s, end_s: passage.end_s };
  return { section_id: value };
}

export function stretchName(over: Stretch, sections: Section[]): string {
  if (over.section_id) return sections.find((section) => section.id === over.section_id)?.name ?? 'a section';
  if (over.start_s === null || over.start_s === undefined) return 'whole song';
  const digits = (over.end_s ?? 0) < 10 ? 1 : 0;
  return `${over.start_s.toFixed(digits)} to ${(over.end_s ?? 0).toFixed(digits)} s`;
}
