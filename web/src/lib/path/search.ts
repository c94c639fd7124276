/** Finding by words of the trade. Pure. */

export interface Searchable {
  name: string;
  what: string;
  words: readonly string[];
}

const plain = (text: string) => text.toLowerCase().replace(/[-\s]+/g, '');
/** A text from each of its words on: "de-esser" begins with "de" and with "ess". */
const begins = (text: string): string[] => {
  const parts = text
    .toLowerCase()
    .split(/[-\s/:,]+/)
    .filter(Boolean);
  return parts.map((_, at) => parts.slice(at).join(''));
};

/**
 * By meaning: what is called so; what is known by that word; where a word of the name, then of the other words, begins so; where it
 * is somewhere in the name; and what only tells of it. Hyphens and spaces do not matter; of several words each must be found.
 */
export function searched<T extends Searchable>(items: readonly T[], search: string): T[] {
  const wanted = search.trim().split(/\s+/).map(plain).filter(Boolean);
  const whole = plain(search);
  const rank = (item: T): number => {
    if (plain(item.name) === whole) return 0;
    if (item.words.some((word) => plain(word) === whole)) return 1;
    if (begins(item.name).some((part) => part.startsWith(whole))) return 2;
    if (item.words.some((word) => begins(word).some((part) => part.startsWith(whole)))) return 3;
    if (plain(item.name).includes(whole)) return 4;
    const all = [item.name, ...item.words, item.what].map(plain);
    return wanted.every((word) => all.some((text) => text.includes(word))) ? 5 : 6;
  };
  return items
    .map((item, at) => ({ item, at, rank: rank(item) }))
    .filter((result) => result.rank < 6)
    .sort((a, b) => a.rank - b.rank || a.at - b.at)
    .map((result) => result.item);
}
