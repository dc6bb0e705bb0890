import { useEffect, useState } from "react";

/** took is a duration in milliseconds, for people. */
export function took(ms: number): string {
  const s = Math.max(0, ms) / 1000;
  if (s < 10) return `${s.toFixed(2)} s`;
  if (s < 100) return `${s.toFixed(1)} s`;
  const min = Math.floor(s / 60);
  return min < 60 ? `${min} min ${Math.floor(s % 60)} s` : `${Math.floor(min / 60)} h ${min % 60} min`;
}

/** when is a time in the reader's zone; exact gives it to the millisecond. */
export function when(iso: string): string {
  const t = new Date(iso);
  const today = new Date().toDateString() === t.toDateString();
  return t.toLocaleString(undefined, today ? { hour: "2-digit", minute: "2-digit" } : { day: "numeric", month: "short", hour: "2-digit", minute: "2-digit" });
}

export const exact = (iso: string) => new Date(iso).toLocaleString(undefined, { dateStyle: "full", timeStyle: "long" });

/** useNow ticks four times a second while something is under way. */
export function useNow(ticking: boolean): number {
  const [now, setNow] = useState(() => Date.now());
  useEffect(() => {
    if (!ticking) return;
    const timer = setInterval(() => setNow(Date.now()), 250);
    return () => clearInterval(timer);
  }, [ticking]);
  return now;
}
