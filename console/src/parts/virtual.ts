const plainMost = 100;

/** virtualFrom has a table paint the rows that are seen alone, where there are many; else it is as long as they are. */
export const virtualFrom = (rows: readonly unknown[] | undefined, x: number, y: number) => ((rows?.length ?? 0) > plainMost ? { virtual: true, scroll: { x, y } } : {});
