/** Finding by words of the trade. Pure. */

export interface Searchable {
  name: string;
  what: string;
  words: readonly string[];
}

const plain = (text: string) => text.toLowerCase().replace(/[-\s]+/g, '');

/**
 * Those that are called so come first, then those known by the word, then those that only tell of it. Hyphens and spaces do not
 * matter; of several words each must be found.
 */
export function searched<T extends Searchable>(items: readonly T[], search: string): T[] {
  const wanted = search.trim().split(/\s+/).map(plain).filter(Boolean);
  const whole = plain(search);
  const rank = (item: T): number => {
    if (plain(item.name).includes(whole)) return 0;
    if (item.words.some((word) => plain(word).startsWith(whole))) return 1;
    const all = [item.name, ...item.words, item.what].map(plain);
    return wanted.every((word) => all.some((text) => text.includes(word))) ? 2 : 3;
  };
  return items
    .map((item, at) => ({ item, at, rank: rank(item) }))
    .filter((result) => result.rank < 3)
    .sort((a, b) => a.rank - b.rank || a.at - b.at)
    .map((result) => result.item);
}
