/** took is a duration in milliseconds, for people. */
export function took(ms: number): string {
  const s = Math.max(0, ms) / 1000;
  if (s < 10) return `${s.toFixed(2)} s`;
  if (s < 100) return `${s.toFixed(1)} s`;
  const min = Math.floor(s / 60);
  return min < 60 ? `${min} min ${Math.floor(s % 60)} s` : `${Math.floor(min / 60)} h ${min % 60} min`;
}

// Made once: to make one costs as much as to paint a row.
const ofToday = new Intl.DateTimeFormat(undefined, { hour: "2-digit", minute: "2-digit", hourCycle: "h23" });
const ofOtherDays = new Intl.DateTimeFormat(undefined, { day: "numeric", month: "short", hour: "2-digit", minute: "2-digit", hourCycle: "h23" });
const whole = new Intl.DateTimeFormat(undefined, { dateStyle: "full", timeStyle: "long", hourCycle: "h23" });

/** when is a time in the reader's zone; exact gives it to the second. */
export function when(iso: string): string {
  const t = new Date(iso);
  if (Number.isNaN(t.getTime())) return "";
  return (new Date().toDateString() === t.toDateString() ? ofToday : ofOtherDays).format(t);
}

export function exact(iso: string): string {
  const t = new Date(iso);
  return Number.isNaN(t.getTime()) ? "" : whole.format(t);
}

/** utc is a time to the millisecond in UTC, as records have it. */
export const utc = (iso: string) => new Date(iso).toISOString().replace("T", " ").replace("Z", "");
