/** Keys that begin to type a value into a focused setting, and those that mean something else at the moment. */
export const reserved = new Set<string>();

export const startsTyping = (key: string): boolean => /^[0-9.-]$/.test(key) && !reserved.has(key);
