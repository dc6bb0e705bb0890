import * as say from "words/bench/boards";

/**
 * Boards are what is open on the bench, side by side. Each has an address, and
 * those of all of them are the layout: it stands in the address bar, so that it can
 * be gone back to, kept and sent. Pure: it touches no page.
 */
export type Board = { kind: "file"; path: string; line?: number } | { kind: "change"; folder: string; path: string; staged: boolean } | { kind: "terminal"; label: string } | { kind: "port"; port: number } | { kind: "debug" } | { kind: "sheet" } | { kind: "log" };

/** The lists beside the boards. */
export const lists = ["files", "changes", "terminals", "ports", "debug", "search"] as const;
export type ListName = (typeof lists)[number];

/** A layout: up to three boards, which of them one is at, and the list that is open. */
export interface Layout {
  boards: Board[];
  at: number;
  list?: ListName;
}

export const boardsMost = 3;
const addressMost = 4200; // a path has 4096 bytes at most

/** addressOf is a board's address: its kind, and after a colon which of them. */
export function addressOf(b: Board): string {
  switch (b.kind) {
    case "file":
      return `file:${b.line ?? ""}:${b.path}`;
    case "change":
      return `change:${b.staged ? "staged" : ""}:${b.folder}//${b.path}`;
    case "terminal":
      return `terminal:${b.label}`;
    case "port":
      return `port:${b.port}`;
    default:
      return b.kind;
  }
}

/** boardOf reads an address; undefined where it is none. */
export function boardOf(address: string): Board | undefined {
  if (address.length > addressMost) return undefined;
  const [, kind, rest] = /^([a-z]+)(?::([^]*))?$/.exec(address) ?? [];
  switch (kind) {
    case "file": {
      const [, line, path] = /^(\d{0,9}):([^]+)$/.exec(rest ?? "") ?? [];
      return path ? { kind, path, ...(Number(line) > 0 ? { line: Number(line) } : {}) } : undefined;
    }
    case "change": {
      const [, staged, folder, path] = /^(staged)?:(\/[^]*?)\/\/([^]+)$/.exec(rest ?? "") ?? [];
      return folder && path ? { kind, folder, path, staged: Boolean(staged) } : undefined;
    }
    case "terminal":
      return rest && /^[a-z0-9-]{1,32}$/.test(rest) ? { kind, label: rest } : undefined;
    case "port": {
      const port = Number(rest);
      return Number.isInteger(port) && port > 0 && port < 65536 ? { kind, port } : undefined;
    }
    case "debug":
    case "sheet":
    case "log":
      return rest === undefined ? { kind } : undefined;
  }
  return undefined;
}

/** same tells whether two boards show one thing, wherever in it they stand. */
export function same(a: Board, b: Board): boolean {
  return a.kind === "file" && b.kind === "file" ? a.path === b.path : addressOf(a) === addressOf(b);
}

/** layoutOf reads the address bar. What is no board is left out, and what is there twice. */
export function layoutOf(search: URLSearchParams): Layout {
  const boards: Board[] = [];
  for (const address of search.getAll("board")) {
    const b = boardOf(address);
    if (b && boards.length < boardsMost && !boards.some((o) => same(o, b))) boards.push(b);
  }
  const at = Number(search.get("at"));
  const list = lists.find((l) => l === search.get("list"));
  return { boards, at: Number.isInteger(at) && at >= 0 && at < boards.length ? at : 0, list };
}

/** searchOf is what the address bar has for a layout. */
export function searchOf(l: Layout): URLSearchParams {
  const search = new URLSearchParams();
  for (const b of l.boards) search.append("board", addressOf(b));
  if (l.at > 0) search.set("at", String(l.at));
  if (l.list) search.set("list", l.list);
  return search;
}

/**
 * opened is a layout with a board in it. One that is open is gone to. Else it takes
 * the place of one of its kind, the one somebody is at before others; or stands
 * beside them, where that is asked for or none is of its kind. With no room left it
 * takes the place of the board somebody is at.
 */
export function opened(l: Layout, b: Board, beside = false): Layout {
  const there = l.boards.findIndex((o) => same(o, b));
  const put = (at: number) => ({ ...l, at, boards: l.boards.map((o, i) => (i === at ? b : o)) });
  if (there >= 0) return put(there);
  if (!beside) {
    if (l.boards[l.at]?.kind === b.kind) return put(l.at);
    const kin = l.boards.findIndex((o) => o.kind === b.kind);
    if (kin >= 0) return put(kin);
  }
  if (l.boards.length < boardsMost) return { ...l, at: l.boards.length, boards: [...l.boards, b] };
  return put(l.at);
}

/** closed is a layout without one of its boards. */
export function closed(l: Layout, at: number): Layout {
  const boards = l.boards.filter((_, i) => i !== at);
  return { ...l, boards, at: Math.max(0, Math.min(l.at > at ? l.at - 1 : l.at, boards.length - 1)) };
}

/** titleOf is what a board's head says. */
export function titleOf(b: Board): string {
  switch (b.kind) {
    case "file":
      return b.path.split("/").pop() ?? b.path;
    case "change":
      return `${b.path.split("/").pop()}: ${b.staged ? "staged" : say.notStaged()}`;
    case "terminal":
      return b.label;
    case "port":
      return `:${b.port}`;
    case "debug":
      return say.debug();
    case "sheet":
      return say.launchSheet();
    case "log":
      return say.log();
  }
}

/** under is a path from a folder; the path itself where it is not beneath it. */
export const under = (path: string, folder: string) => (path.startsWith(`${folder}/`) ? path.slice(folder.length + 1) : path);

/** absolute is a path from a folder as one from the root. */
export const absolute = (path: string, folder: string) => (path.startsWith("/") ? path : `${folder}/${path}`);

/**
 * places are what in a line of text reads as a file and a line of it: tides.py:12,
 * ./board/tides.py:12:4, File "board/tides.py", line 12. A match says where it stands.
 */
export function places(text: string): { from: number; to: number; path: string; line: number }[] {
  const found = [];
  for (const m of text.matchAll(/(?:File "([^"\0]{1,300})", line (\d{1,7}))|(?<![\w:/.-])((?:\.{0,2}\/)?[\w@+.-]+(?:\/[\w@+.-]+)*\.\w{1,10}):(\d{1,7})(?::\d{1,5})?/g)) {
    const path = m[1] ?? m[3] ?? "";
    const line = Number(m[2] ?? m[4]);
    if (line > 0) found.push({ from: m.index, to: m.index + m[0].length, path: path.replace(/^\.\//, ""), line });
  }
  return found;
}

/** languageOf is the language of a file by its name; the definition's own before others. */
export function languageOf<L extends { files: string[]; own?: boolean }>(all: L[] | undefined, path: string): L | undefined {
  const name = path.split("/").pop() ?? path;
  const fits = (pattern: string) =>
    new RegExp(
      `^${pattern
        .replace(/[.+^${}()|\\]/g, "\\$&")
        .replaceAll("*", ".*")
        .replaceAll("?", ".")}$`,
    ).test(name);
  const fitting = all?.filter((l) => l.files.some(fits)) ?? [];
  return fitting.find((l) => l.own) ?? fitting[0];
}
