import { useEffect, useRef, useState } from "react";
import { useSearchParams } from "react-router";

/** useAddress keeps a page's choices in the address bar, so that they can be sent and come back to. */
export function useAddress(): [(key: string) => string | undefined, (changes: Record<string, string | undefined>) => void] {
  const [search, setSearch] = useSearchParams();
  // What sets it stays the same one: what is given it need not be painted again.
  const latest = useRef(setSearch);
  useEffect(() => {
    latest.current = setSearch;
  });
  const [set] = useState(
    () => (changes: Record<string, string | undefined>) =>
      latest.current(
        (old) => {
          for (const [k, v] of Object.entries(changes)) {
            if (v) old.set(k, v);
            else old.delete(k);
          }
          return old;
        },
        { replace: true },
      ),
  );
  return [(key) => search.get(key) ?? undefined, set];
}

/** oneOf is what an address says where it is one of some values, else what is usual. */
export const oneOf = <T extends string>(said: string | undefined, all: readonly T[], usual: T): T => all.find((v) => v === said) ?? usual;

/** sorting puts a table's order into the address bar. */
export function sorting<T>(sort: string | undefined) {
  return (key: string, compare: (a: T, b: T) => number) => ({
    key,
    sorter: compare,
    sortOrder: sort === key ? ("ascend" as const) : sort === `-${key}` ? ("descend" as const) : null,
  });
}

/** sorted reads what a table says of its new order. */
export function sorted(s: unknown): string | undefined {
  const one = (Array.isArray(s) ? s[0] : s) as { order?: string; columnKey?: unknown } | undefined;
  return one?.order ? (one.order === "descend" ? "-" : "") + String(one.columnKey) : undefined;
}
