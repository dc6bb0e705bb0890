import { Problem } from "../api/client";
import { read, write, type File } from "../service/files";
import { draftOf, dropDraft, keepDraft } from "./drafts";
import { FileEditor } from "./editor";
import { Told } from "./told";

/** Which file of whose is written. */
export interface Place {
  workspace: string; // its name and its owner's
  id: string;
  person: string;
  path: string;
}

/** How a file that is written stands. */
export interface Standing {
  dirty: boolean;
  saving: boolean;
  comparing: boolean;
  isNew: boolean; // there is none on the disk
  problem?: unknown;
  theirs?: { text: string; tag?: string }; // what somebody else wrote meanwhile; without a tag it is gone
}

/** What is done before it is saved, and after. */
export interface Around {
  before?: (e: FileEditor) => Promise<void> | undefined;
  saved?: (f: File) => void;
}

/** What is read of a file, and what was written of it before and not saved. */
export interface Opening {
  disk?: { text: string; tag: string };
  draft?: { text: string; tag?: string };
}

const textOf = (bytes: Uint8Array) => new TextDecoder("utf-8", { fatal: true, ignoreBOM: true }).decode(bytes);
const keepAfter = 300;

/** opening reads a file for somebody. A TypeError where it is no text. */
export async function opening(of: Place, gone: boolean): Promise<Opening> {
  const draft = await draftOf(of.person, of.id, of.path);
  if (gone) return { draft };
  const got = await read(of.workspace, of.path);
  const disk = { text: textOf(got.bytes), tag: got.tag };
  if (disk.text.includes("\0")) throw new TypeError("zero bytes");
  return { disk, draft: draft && draft.text !== disk.text ? draft : undefined };
}

/** Editors that were closed, with what can be undone in them: the latest of them, in this page alone. */
const closed = new Map<string, unknown>();
const closedMost = 30;

/**
 * Written is a file while it is written: its editor, what of it is saved, and what
 * somebody else made of it meanwhile. It stands outside of React: a page shows how it
 * stands.
 */
export class Written extends Told<Standing> {
  editor: FileEditor | undefined;
  private saved: { text: string; tag?: string };
  private readonly first: string;
  private around: Around = {};
  private keeping: ReturnType<typeof setTimeout> | undefined;

  constructor(
    private readonly of: Place,
    { disk, draft }: Opening,
  ) {
    const other = draft !== undefined && draft.tag !== disk?.tag;
    super({ dirty: draft !== undefined, saving: false, comparing: false, isNew: !disk, theirs: other ? { text: disk?.text ?? "", tag: disk?.tag } : undefined });
    this.first = draft?.text ?? disk?.text ?? "";
    this.saved = { text: disk?.text ?? "", tag: draft ? draft.tag : disk?.tag };
  }

  private set(some: Partial<Standing>) {
    this.stand({ ...this.standing, ...some });
  }

  /** within says what stands around it. */
  within(around: Around) {
    this.around = around;
  }

  /** show puts its editor on the page; what it gives takes it off again. */
  show(parent: HTMLElement, readOnly: boolean, emacs: boolean): () => void {
    const id = `${this.of.id}\0${this.of.path}`;
    const text = this.editor ? this.editor.text() : this.first;
    const e = new FileEditor(parent, this.of.path, text, { changed: () => this.changed(), save: () => void this.save() }, readOnly, emacs, closed.get(id));
    this.editor = e;
    closed.delete(id);
    return () => {
      closed.set(id, e.kept());
      const oldest = closed.keys().next().value;
      if (closed.size > closedMost && oldest !== undefined) closed.delete(oldest);
      e.end();
    };
  }

  private changed() {
    if (!this.standing.dirty) this.set({ dirty: true });
    clearTimeout(this.keeping);
    this.keeping = setTimeout(() => this.keep(), keepAfter);
  }

  // What is not saved is kept in the browser; what is as it was saved is not dirty.
  private keep() {
    clearTimeout(this.keeping);
    const text = this.editor?.text() ?? this.first;
    const dirty = text !== this.saved.text || (this.saved.tag === undefined && text !== "");
    if (this.standing.dirty !== dirty) this.set({ dirty });
    const { person, id, path } = this.of;
    if (dirty) void keepDraft(person, id, path, { text, tag: this.saved.tag, at: Date.now() });
    else void dropDraft(person, id, path);
  }

  private isSaved(text: string, tag: string | undefined) {
    this.saved = { text, tag };
    this.set({ problem: undefined, isNew: tag === undefined });
    this.keep();
  }

  async save() {
    const e = this.editor;
    if (!e || this.standing.saving) return;
    this.set({ saving: true });
    try {
      await this.around.before?.(e);
      e.tidy();
      const text = e.text();
      const f = await write(this.of.workspace, this.of.path, text, this.saved.tag);
      e.against(undefined);
      this.set({ comparing: false, theirs: undefined });
      this.isSaved(text, f.tag);
      this.around.saved?.(f);
    } catch (err) {
      if (err instanceof Problem && err.status === 412) await this.look();
      else this.set({ problem: err });
    } finally {
      this.set({ saving: false });
    }
  }

  /** noticed tells of the file that is on the disk now; without a tag there is none. */
  noticed(tag: string | undefined) {
    if (!this.standing.saving && tag !== this.saved.tag && tag !== this.standing.theirs?.tag) void this.look();
  }

  // Somebody or something else wrote it. Where nothing of ours is unsaved, it is taken.
  private async look() {
    try {
      const got = await read(this.of.workspace, this.of.path);
      if (got.tag === this.saved.tag) return;
      const text = textOf(got.bytes);
      const e = this.editor;
      const ours = e?.text();
      if (ours === text) this.isSaved(text, got.tag);
      else if (e && ours === this.saved.text) {
        this.saved = { text, tag: got.tag };
        e.put(text);
        this.isSaved(text, got.tag);
      } else this.set({ theirs: { text, tag: got.tag } });
    } catch (err) {
      if (err instanceof Problem && err.status === 404) {
        if (this.saved.tag !== undefined) this.set({ theirs: { text: "" } });
      } else this.set({ problem: err });
    }
  }

  /** settle decides between ours and theirs. */
  settle(how: "mine" | "theirs" | "compare") {
    const { theirs } = this.standing;
    const e = this.editor;
    if (!theirs || !e) return;
    this.saved = { text: theirs.text, tag: theirs.tag };
    this.set({ theirs: undefined, isNew: theirs.tag === undefined });
    if (how === "theirs") e.put(theirs.text);
    if (how === "compare") {
      e.against(theirs.text);
      this.set({ comparing: true });
    }
    this.keep();
  }
}
