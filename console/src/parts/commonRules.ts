import { isMap, isScalar, parseDocument, type Document } from "yaml";
import * as say from "words/parts/commonRules";

/** A value of the house rules that is changed often, and where it stands in the document. */
export interface CommonValue {
  path: string[];
  label: string;
  unit?: string; // how it is written
}

/** The common values, in the order of the document; all else is written in the document itself. */
export const commonValues: CommonValue[] = [
  { path: ["usual_size"], label: say.sizeWhereNoneIs() },
  { path: ["limits", "person", "existing"], label: say.workspacesAPersonMay() },
  { path: ["limits", "person", "running"], label: say.ofThemRunningAt() },
  { path: ["limits", "person", "cores"], label: say.coresOfAPersons() },
  { path: ["limits", "person", "memory"], label: say.memoryOfAPersons(), unit: "like 12 GiB" },
  { path: ["idle", "rest_after"], label: say.putToRestWithout(), unit: "like 45 min" },
  { path: ["idle", "rest_after_most"], label: say.theLongestThatMay(), unit: "like 10 h" },
  { path: ["idle", "warn_before"], label: say.warnedBeforeThat(), unit: "like 5 min" },
  { path: ["idle", "hold_most"], label: say.theLongestHold(), unit: "like 12 h" },
  { path: ["retention", "stopped_most"], label: say.removedWhenStoppedFor(), unit: "like 21 days" },
];

function read(text: string): Document | undefined {
  const doc = parseDocument(text);
  return doc.errors.length > 0 || !isMap(doc.contents) ? undefined : doc;
}

/** commonOf reads the common values of a document, by their labels' order; nothing where it cannot be read. */
export function commonOf(text: string): string[] | undefined {
  const doc = read(text);
  return (
    doc &&
    commonValues.map((v) => {
      const node = doc.getIn(v.path, true);
      return isScalar(node) ? String(node.source ?? node.value ?? "") : "";
    })
  );
}

/**
 * withValue is the document with another value at a place, and nothing else of it changed:
 * comments, order and the way it is laid out stay. An empty value takes it out.
 */
export function withValue(text: string, path: string[], value: string): string {
  const doc = read(text);
  if (!doc) return text;
  const node = doc.getIn(path, true);
  const said = value.trim();
  const plain = parseDocument(said || "null").toJS() as unknown;
  const next = typeof plain === "number" ? plain : said;
  if (isScalar(node) && node.range && said) {
    return text.slice(0, node.range[0]) + said + text.slice(node.range[1]);
  }
  if (said) doc.setIn(path, next);
  else doc.deleteIn(path);
  return doc.toString({ lineWidth: 0, flowCollectionPadding: false });
}
