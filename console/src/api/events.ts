import { useQueryClient, type QueryClient } from "@tanstack/react-query";
import { useEffect, useState, useSyncExternalStore } from "react";
import { firstListed, type Person, type WorkspaceRow } from "./client";

/** Which queries a journal entry makes old, by the beginning of its kind. */
const reads: [string, string[]][] = [
  ["workspace.look", ["looks", "terminals", "journal"]],
  ["workspace.", ["workspaces one", "cost", "journal"]], // a list has the changed row by itself
  ["operation.", ["operations", "journal"]],
  ["secret.", ["secrets", "workspaces", "preflight", "journal"]],
  ["git-credential.", ["credentials", "journal"]],
  ["prebuild.", ["prebuilds", "preflight", "journal"]],
  ["rules.", ["rules", "workspaces", "preflight", "cost", "journal"]],
  ["repository.", ["repositories", "journal"]],
  ["person.", ["people", "tokens", "me", "journal"]],
  ["team.", ["people", "journal"]],
  ["token.", ["tokens", "journal"]],
  ["yard.", ["health", "workspaces", "journal"]],
];
const everything = [...new Set(reads.flatMap(([, keys]) => keys))];

/** How the stream stands: live; late, where nothing was heard for longer than usual; cut off and being connected again; or refused by the service. */
export type StreamState = "live" | "late" | "lost" | "refused";

// The service says something every 20 seconds. A connection that is silent for
// longer is dead, whatever the browser thinks of it: a laptop slept, a proxy let go.
const lateAfter = 30_000;
const silentMost = 50_000;
const againFirst = 1_000;
const againMost = 30_000;
const burst = 150;

/**
 * Stream follows the event stream and has what changed read again, a burst of
 * changes once. It stands outside of React: a page only subscribes to how it is.
 */
export class Stream {
  private state: StreamState = "live";
  private readonly listeners = new Set<() => void>();
  private source: EventSource | undefined;
  private readonly old = new Set<string>();
  private gather: ReturnType<typeof setTimeout> | undefined;
  private retry: ReturnType<typeof setTimeout> | undefined;
  private watch: ReturnType<typeof setInterval> | undefined;
  private heard = Date.now();
  private wait = againFirst;
  private begun = false;
  private readonly rows = new Map<string, WorkspaceRow | undefined>();
  private putting: ReturnType<typeof setTimeout> | undefined;

  constructor(private readonly queries: QueryClient) {}

  /** follow begins; what it gives ends it. */
  follow(): () => void {
    this.watch = setInterval(() => {
      const silent = this.source ? Date.now() - this.heard : 0;
      if (silent > silentMost) this.broken();
      else if (silent > lateAfter && this.state === "live") this.set("late");
    }, 5_000);
    document.addEventListener("visibilitychange", this.look);
    this.look();
    return () => this.end();
  }

  readonly now = (): StreamState => this.state;

  readonly subscribe = (listener: () => void) => {
    this.listeners.add(listener);
    return () => void this.listeners.delete(listener);
  };

  private end() {
    clearInterval(this.watch);
    clearTimeout(this.gather);
    clearTimeout(this.putting);
    clearTimeout(this.retry);
    document.removeEventListener("visibilitychange", this.look);
    this.source?.close();
    this.source = undefined;
  }

  // Only who looks is told: a browser has six connections to a service, and
  // pages in the background would hold them all.
  private readonly look = () => {
    this.source?.close();
    this.source = undefined;
    clearTimeout(this.retry);
    if (document.visibilityState === "visible") this.open();
  };

  private open() {
    this.heard = Date.now();
    // At first it begins where what is shown was read: nothing is read twice. Later what was missed is read again.
    const since = this.begun ? undefined : firstListed();
    this.begun = true;
    const source = new EventSource(since ? `/api/v1/events?after=${since}` : "/api/v1/events");
    this.source = source;
    const hear = () => {
      this.heard = Date.now();
      this.wait = againFirst;
      this.set("live");
    };
    let first = since === undefined;
    source.addEventListener("pulse", () => {
      hear();
      if (first) this.again(...everything); // what came before this connection is not told
      first = false;
    });
    source.addEventListener("journal", (e) => {
      hear();
      const kind = String((JSON.parse((e as MessageEvent<string>).data) as { kind: string }).kind);
      this.again(...(reads.find(([start]) => kind.startsWith(start))?.[1] ?? ["journal"]));
    });
    // A log grew, a step began: what shows one workspace is read again, lists are not.
    source.addEventListener("change", () => {
      hear();
      this.again("workspaces one", "prebuilds");
    });
    source.addEventListener("row", (e) => {
      hear();
      const row = JSON.parse((e as MessageEvent<string>).data) as WorkspaceRow;
      this.change(row.id, row);
    });
    source.addEventListener("gone", (e) => {
      hear();
      this.change((JSON.parse((e as MessageEvent<string>).data) as { workspace: string }).workspace);
    });
    source.onerror = () => this.broken();
  }

  // A browser connects again by itself in some cases and gives up in others; so
  // we do, always. Whether we are signed in still is asked too.
  private broken() {
    this.source?.close();
    this.source = undefined;
    if (this.state !== "refused") this.set("lost");
    void this.refused();
    clearTimeout(this.retry);
    this.retry = setTimeout(() => {
      if (document.visibilityState === "visible") this.open();
    }, this.wait);
    this.wait = Math.min(2 * this.wait, againMost);
    void this.queries.invalidateQueries({ queryKey: ["me"] }, { cancelRefetch: false });
  }

  // A browser does not say why a stream did not come: whether it is refused is asked apart.
  private async refused() {
    const ask = new AbortController();
    const status = await fetch("/api/v1/events", { signal: ask.signal, headers: { Accept: "text/event-stream" } }).then(
      (a) => a.status,
      () => 0,
    );
    ask.abort();
    if (this.source) return; // it is there again
    if (status >= 400 && status !== 401 && status < 500) this.set("refused");
    else if (this.state === "refused") this.set("lost");
  }

  private set(state: StreamState) {
    if (this.state === state) return;
    this.state = state;
    for (const l of this.listeners) l();
  }

  // How a workspace stands in lists now; without a row it stands in none.
  private change(id: string, row?: WorkspaceRow) {
    this.rows.set(id, row);
    this.putting ??= setTimeout(() => {
      this.putting = undefined;
      const rows = new Map(this.rows);
      this.rows.clear();
      const me = this.queries.getQueryData<Person>(["me"])?.name;
      for (const q of this.queries.getQueryCache().findAll({ queryKey: ["workspaces", "list"] })) {
        if (q.state.fetchStatus === "fetching") {
          this.again("workspaces"); // what is being read may be older than this
          continue;
        }
        this.queries.setQueryData<WorkspaceRow[]>(q.queryKey, (old) => old && changed(old, rows, q.queryKey[2] ? undefined : me));
      }
    }, burst);
  }

  // A query that is being read is not begun anew: events that come faster than
  // its answer would keep it from ever being read.
  private again(...keys: string[]) {
    for (const k of keys) this.old.add(k);
    this.gather ??= setTimeout(() => {
      this.gather = undefined;
      const now = new Set(this.old);
      this.old.clear();
      void this.queries.invalidateQueries({ predicate: (q) => now.has(String(q.queryKey[0])) || (now.has("workspaces one") && q.queryKey[0] === "workspaces" && q.queryKey[1] !== "list") }, { cancelRefetch: false });
    }, burst);
  }
}

/** changed is a list with changed rows in it; of one owner alone, where one is named. */
function changed(list: WorkspaceRow[], rows: ReadonlyMap<string, WorkspaceRow | undefined>, owner?: string): WorkspaceRow[] {
  const left = new Map(rows);
  const kept = list.flatMap((old) => {
    if (!left.has(old.id)) return [old];
    const now = left.get(old.id);
    left.delete(old.id);
    return now ? [now] : [];
  });
  for (const row of left.values()) if (row && (!owner || row.owner === owner)) kept.push(row);
  return kept;
}

/** useEvents follows the event stream as long as it is used, and tells how it stands. */
export function useEvents(): StreamState {
  const queries = useQueryClient();
  const [stream] = useState(() => new Stream(queries));
  useEffect(() => stream.follow(), [stream]);
  return useSyncExternalStore(stream.subscribe, stream.now);
}
