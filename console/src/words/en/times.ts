/** took is a duration in milliseconds, for people. */
export function took(ms: number): string {
  const s = Math.max(0, ms) / 1000;
  if (s < 10) return `${s.toFixed(2)} s`;
  if (s < 100) return `${s.toFixed(1)} s`;
  const min = Math.floor(s / 60);
  return min < 60 ? `${min} min ${Math.floor(s % 60)} s` : `${Math.floor(min / 60)} h ${min % 60} min`;
}

// Made once for a zone: to make one costs as much as to paint a row.
const clocks = (timeZone?: string) => ({
  clock: new Intl.DateTimeFormat(undefined, { timeZone, hour: "2-digit", minute: "2-digit", hourCycle: "h23" }),
  second: new Intl.DateTimeFormat(undefined, { timeZone, hour: "2-digit", minute: "2-digit", second: "2-digit", hourCycle: "h23" }),
  otherDays: new Intl.DateTimeFormat(undefined, { timeZone, day: "numeric", month: "short", hour: "2-digit", minute: "2-digit", hourCycle: "h23" }),
  whole: new Intl.DateTimeFormat(undefined, { timeZone, dateStyle: "full", timeStyle: "long", hourCycle: "h23" }),
  day: new Intl.DateTimeFormat("sv", { timeZone, dateStyle: "short" }),
});

let now: string | undefined;
let of = clocks();

/** tellIn has times be told in a zone; undefined is the browser's own. What a browser does not know changes nothing. */
export function tellIn(zone: string | undefined) {
  if (zone === now) return;
  now = zone;
  try {
    of = clocks(zone);
  } catch {
    /* a zone that is younger than this browser */
  }
}

const told = (iso: string, by: (t: Date) => string) => {
  const t = new Date(iso);
  return Number.isNaN(t.getTime()) ? "" : by(t);
};

/** when is a time in the zone that times are told in; exact gives it to the second, clock alone without its day. */
export const when = (iso: string) => told(iso, (t) => (of.day.format(new Date()) === of.day.format(t) ? of.clock : of.otherDays).format(t));
export const exact = (iso: string) => told(iso, (t) => of.whole.format(t));
export const clock = (iso: string) => told(iso, (t) => of.second.format(t));

/** utc is a time to the millisecond in UTC, as records have it. */
export const utc = (iso: string) => new Date(iso).toISOString().replace("T", " ").replace("Z", "");
