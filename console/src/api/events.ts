import { useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";

/** Which queries a journal entry makes old, by the beginning of its kind. */
const reads: [string, string[]][] = [
  ["workspace.", ["workspaces", "cost", "journal"]],
  ["secret.", ["secrets", "workspaces", "preflight", "journal"]],
  ["prebuild.", ["prebuilds", "preflight", "journal"]],
  ["rules.", ["rules", "workspaces", "preflight", "cost", "journal"]],
  ["repository.", ["repositories", "journal"]],
  ["person.", ["people", "tokens", "journal"]],
  ["team.", ["people", "journal"]],
  ["token.", ["tokens", "journal"]],
  ["yard.", ["health", "workspaces", "journal"]],
];

/**
 * useEvents follows the event stream and has what changed read again, a burst
 * of changes once, as long as the page is to be seen. It tells whether the
 * stream is lost; the browser connects again by itself and resumes at the last
 * entry it saw.
 */
export function useEvents(signedIn: boolean): boolean {
  const queries = useQueryClient();
  const [lost, setLost] = useState(false);
  useEffect(() => {
    if (!signedIn) return;
    const old = new Set<string>();
    let timer: ReturnType<typeof setTimeout> | undefined;
    const again = (...keys: string[]) => {
      for (const k of keys) old.add(k);
      timer ??= setTimeout(() => {
        timer = undefined;
        const now = new Set(old);
        old.clear();
        void queries.invalidateQueries({ predicate: (q) => now.has(String(q.queryKey[0])) || (now.has("workspaces one") && q.queryKey[0] === "workspaces" && q.queryKey[1] !== "list") });
      }, 150);
    };
    let away = false;
    let source: EventSource | undefined;
    const open = () => {
      source = new EventSource("/api/v1/events");
      source.addEventListener("pulse", () => {
        if (away) again(...new Set(reads.flatMap(([, keys]) => keys))); // changes without an entry were missed
        away = false;
        setLost(false);
      });
      source.addEventListener("journal", (e) => {
        const kind = String((JSON.parse((e as MessageEvent<string>).data) as { kind: string }).kind);
        again(...(reads.find(([start]) => kind.startsWith(start))?.[1] ?? ["journal"]));
      });
      // A log grew, a step began: what shows one workspace is read again, lists are not.
      source.addEventListener("change", () => again("workspaces one", "prebuilds"));
      source.onerror = () => {
        away = true;
        setLost(true);
      };
    };
    // Only who looks is told: a browser has six connections to a service, and
    // pages in the background would hold them all.
    const look = () => {
      source?.close();
      source = undefined;
      if (document.visibilityState === "visible") open();
      else away = true;
    };
    look();
    document.addEventListener("visibilitychange", look);
    return () => {
      clearTimeout(timer);
      document.removeEventListener("visibilitychange", look);
      source?.close();
    };
  }, [queries, signedIn]);
  return lost;
}
