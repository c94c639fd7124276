/** Edits that give a value to an address. */
import type { Edit, Moved, Owner, SettingValue } from '../api/client';

export type Values = Record<string, SettingValue>;

export const movesOf = (of: Owner, id: string | null, values: Values): Moved[] =>
  Object.entries(values).map(([name, value]) => ({ of, id, name, value }));

/** New values for one object of the session. */
export const setOf = (of: Owner, id: string | null, values: Values): Edit => ({
  op: 'set',
  values: movesOf(of, id, values),
});

/** Values that strips chosen together take as they are, instead of moving by as much. */
export const sameOf = (of: Owner, id: string | null, values: Values): Edit => ({
  op: 'set',
  values: movesOf(of, id, values),
  same: true,
});

/** New values for several objects, as one edit. */
export const setAll = (values: Moved[]): Edit => ({ op: 'set', values });

/** Several edits as one; one by itself stays what it is. */
export const batch = (edits: Edit[]): Edit => (edits.length === 1 ? edits[0]! : { op: 'batch', edits });
