/** How long work still takes, in words. */
export interface TimeLeft {
  seconds_left: number | null;
  rough: boolean;
}

/** A rough estimate is given in round steps: what will change anyway is not told to the second. */
const STEPS_S = [5, 10, 15, 20, 30, 45, 60];

export function leftText({ seconds_left, rough }: TimeLeft): string {
  if (seconds_left === null) return '';
  if (!rough) return `, ${timeText(Math.ceil(seconds_left))} left`;
  return `, ${roughText(seconds_left)} left`;
}

export function roughText(seconds: number): string {
  const step = STEPS_S.find((step) => seconds <= step) ?? 60 * Math.ceil(seconds / 60);
  return `roughly ${timeText(step)}`;
}

const timeText = (seconds: number) => (seconds < 120 ? `${seconds} s` : `${Math.ceil(seconds / 60)} min`);
