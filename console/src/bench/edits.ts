import type { Text } from "@codemirror/state";

/** Edits of texts, as the Language Server Protocol (3.17) has them. Pure: it touches no page. */
export interface Position {
  line: number;
  character: number;
}

export interface TextEdit {
  range: { start: Position; end: Position };
  newText: string;
}

export interface WorkspaceEdit {
  changes?: Record<string, TextEdit[]>;
  documentChanges?: ({ textDocument: { uri: string }; edits: TextEdit[] } | { kind: string })[];
}

/** uriOf is the address of a file, pathOf the path of an address; undefined where it is no file's. */
export const uriOf = (path: string) => "file://" + path.split("/").map(encodeURIComponent).join("/");
export function pathOf(uri: string): string | undefined {
  if (!uri.startsWith("file:///")) return undefined;
  try {
    return decodeURIComponent(uri.slice(7));
  } catch {
    return undefined;
  }
}

/** offsetOf is where a position stands in a text; what lies beyond the text is its end. */
export function offsetOf(doc: Text, p: Position): number {
  if (!(p.line >= 0)) return 0;
  if (p.line >= doc.lines) return doc.length;
  const line = doc.line(p.line + 1);
  return line.from + Math.min(Math.max(0, p.character || 0), line.length);
}

/** changesOf are a text's edits as changes of it, in order; undefined where two lie over one another. */
export function changesOf(doc: Text, edits: TextEdit[]): { from: number; to: number; insert: string }[] | undefined {
  const all = edits.map((e) => ({ from: offsetOf(doc, e.range.start), to: offsetOf(doc, e.range.end), insert: e.newText }));
  all.sort((a, b) => a.from - b.from || a.to - b.to);
  if (all.some((c, i) => c.to < c.from || (i > 0 && c.from < (all[i - 1]?.to ?? 0)))) return undefined;
  return all;
}

/** editsOf are a workspace edit's, by the files' addresses; undefined where it makes, moves or removes files, which is not done for a program. */
export function editsOf(edit: WorkspaceEdit): Map<string, TextEdit[]> | undefined {
  const all = new Map<string, TextEdit[]>();
  const add = (uri: string, edits: TextEdit[]) => all.set(uri, [...(all.get(uri) ?? []), ...edits]);
  if (edit.documentChanges) {
    for (const d of edit.documentChanges) {
      if (!("textDocument" in d)) return undefined;
      add(d.textDocument.uri, d.edits);
    }
    return all;
  }
  for (const [uri, edits] of Object.entries(edit.changes ?? {})) add(uri, edits);
  return all;
}
