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

/** `51 MB`, `480 KB`: in powers of ten, as file managers count. */
export function bytesText(bytes: number): string {
  if (bytes >= 1e9) return `${numberText(bytes / 1e9)} GB`;
  if (bytes >= 1e6) return `${numberText(bytes / 1e6, bytes < 1e7 ? 1 : 0)} MB`;
  return `${numberText(bytes / 1e3, 0)} KB`;
}

/** A level: below -100 dB nothing is heard, and digits say nothing. */
export function levelText(value: number | null | undefined, digits = 1): string {
  return numberText(value, typeof value === 'number' && value <= -100 ? 0 : digits);
}
