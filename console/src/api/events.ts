import { useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";

/**
 * useEvents follows the event stream and has what changed read again. It
 * tells whether the stream is lost; the browser connects again by itself and
 * resumes at the last entry it saw.
 */
export function useEvents(signedIn: boolean): boolean {
  const queries = useQueryClient();
  const [lost, setLost] = useState(false);
  useEffect(() => {
    if (!signedIn) return;
    const source = new EventSource("/api/v1/events");
    const again = () => void queries.invalidateQueries({ queryKey: ["workspaces"] });
    let away = false;
    source.addEventListener("pulse", () => {
      if (away) again(); // changes without an entry were missed
      away = false;
      setLost(false);
    });
    source.addEventListener("journal", again);
    source.addEventListener("change", again);
    source.onerror = () => {
      away = true;
      setLost(true);
    };
    return () => source.close();
  }, [queries, signedIn]);
  return lost;
}
