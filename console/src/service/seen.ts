/**
 * whileSeen runs something that holds a connection, for as long as somebody sees the
 * page, until it is ended: a browser has six connections to a service, and pages in the
 * background, and those that it keeps to go back to, would hold them all.
 */
export function whileSeen(run: (signal: AbortSignal) => void): () => void {
  let stop: AbortController | undefined;
  const look = () => {
    stop?.abort();
    stop = undefined;
    if (document.visibilityState !== "visible") return;
    stop = new AbortController();
    run(stop.signal);
  };
  document.addEventListener("visibilitychange", look);
  look();
  return () => {
    document.removeEventListener("visibilitychange", look);
    stop?.abort();
  };
}
