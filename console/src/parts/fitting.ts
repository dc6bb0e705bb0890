export interface Filter<T> {
  key: string;
  any: string; // what it says while nothing is chosen
  of: (row: T) => readonly string[];
}

/** Plain comparison of texts: what people name is in Latin letters, and thousands of rows are compared at each key. */
export const byText = (a: string, b: string) => (a < b ? -1 : a > b ? 1 : 0);

const known = new WeakMap<object, string>();

/** What words are looked for in: a row's texts, made ready once. */
function textOf<T extends object>(row: T, texts: (row: T) => readonly string[]): string {
  const text = known.get(row) ?? texts(row).join("\n").toLowerCase();
  known.set(row, text);
  return text;
}

/** fitting are the rows that have one of what is chosen of each filter, and the words in one of their texts, in their order. */
export function fitting<T extends object>(rows: readonly T[], of: { words: string; texts: (row: T) => readonly string[]; chosen: readonly { of: Filter<T>["of"]; values: readonly string[] }[] }): T[] {
  const words = of.words.trim().toLowerCase();
  const chosen = of.chosen.filter((c) => c.values.length > 0);
  return rows.filter((r) => chosen.every((c) => c.of(r).some((v) => c.values.includes(v))) && (!words || textOf(r, of.texts).includes(words)));
}

/** ordered are the rows as somebody wants them; the list itself stays as it is. */
export function ordered<T>(rows: readonly T[], compare: ((a: T, b: T) => number) | undefined, down: boolean): readonly T[] {
  return compare ? [...rows].sort((a, b) => (down ? compare(b, a) : compare(a, b))) : rows;
}

/** counted are the values of a filter in rows, with how many have each; the most frequent first. */
export function counted<T>(rows: readonly T[], of: Filter<T>["of"]): [string, number][] {
  const n = new Map<string, number>();
  for (const r of rows) for (const v of of(r)) if (v) n.set(v, (n.get(v) ?? 0) + 1);
  return [...n].sort((a, b) => b[1] - a[1] || byText(a[0], b[0]));
}
