import { useEffect, useState, useSyncExternalStore } from "react";

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

const minute = { at: Date.now(), watchers: new Set<() => void>() };
setInterval(() => {
  minute.at = Date.now();
  for (const w of minute.watchers) w();
}, 60_000);

/** useMinute is the time to the minute, one clock for the whole page. */
export function useMinute(): number {
  return useSyncExternalStore(
    (changed) => {
      minute.watchers.add(changed);
      return () => minute.watchers.delete(changed);
    },
    () => minute.at,
  );
}
