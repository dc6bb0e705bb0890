export interface Filter<T> {
  key: string;
  any: string; // what it says while nothing is chosen
  of: (row: T) => readonly string[];
}

/** Plain comparison of texts: what people name is in Latin letters, and thousands of rows are compared at each key. */
export const byText = (a: string, b: string) => (a < b ? -1 : a > b ? 1 : 0);

/** fitting are the rows that have one of what is chosen of each filter, and the words in one of their texts; ordered. */
export function fitting<T>(rows: readonly T[], of: { words: string; texts: (row: T) => readonly string[]; chosen: readonly { of: Filter<T>["of"]; values: readonly string[] }[]; compare?: (a: T, b: T) => number; down: boolean }): T[] {
  const words = of.words.trim().toLowerCase();
  const kept = rows.filter((r) => of.chosen.every((c) => c.values.length === 0 || c.of(r).some((v) => c.values.includes(v))) && (!words || of.texts(r).some((t) => t.toLowerCase().includes(words))));
  const { compare } = of;
  return compare ? kept.sort((a, b) => (of.down ? compare(b, a) : compare(a, b))) : kept;
}

/** counted are the values of a filter in rows, with how many have each; the most frequent first. */
export function counted<T>(rows: readonly T[], of: Filter<T>["of"]): [string, number][] {
  const n = new Map<string, number>();
  for (const r of rows) for (const v of of(r)) if (v) n.set(v, (n.get(v) ?? 0) + 1);
  return [...n].sort((a, b) => b[1] - a[1] || byText(a[0], b[0]));
}
