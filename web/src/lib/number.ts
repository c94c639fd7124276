/** Numbers as text, in one place: so many digits behind the point, no negative zero, a dash where nothing was measured. */

const formats = new Map<string, Intl.NumberFormat>();

function formatOf(digits: number, signed: boolean): Intl.NumberFormat {
  const key = `${digits} ${signed}`;
  let result = formats.get(key);
  if (!result) {
    result = new Intl.NumberFormat('en', {
      minimumFractionDigits: digits,
      maximumFractionDigits: digits,
      useGrouping: false,
      signDisplay: signed ? 'exceptZero' : 'negative',
    });
    formats.set(key, result);
  }
  return result;
}

/** `-12.0`. signed: with a plus above zero, as of a change. */
export function numberText(value: number | null | undefined, digits = 1, signed = false): string {
  if (value === null || value === undefined || Number.isNaN(value)) return '--';
  return formatOf(digits, signed).format(value);
}

/** A level: below -100 dB nothing is heard, and digits say nothing. */
export function levelText(value: number | null | undefined, digits = 1): string {
  return numberText(value, typeof value === 'number' && value <= -100 ? 0 : digits);
}
