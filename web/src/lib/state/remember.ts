/** What this browser remembers of how the page was left. */
export const remember = (name: string, value: unknown): void =>
  localStorage.setItem(`saltanvil.${name}`, JSON.stringify(value));

export function recall<T>(name: string): T | null {
  try {
    return JSON.parse(localStorage.getItem(`saltanvil.${name}`) ?? 'null') as T | null;
  } catch {
    return null;
  }
}
