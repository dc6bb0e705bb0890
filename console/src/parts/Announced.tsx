import type { components } from "../api/schema";
import { when } from "words/times";
import * as say from "words/parts/Announced";

/** What the house tells everybody, and what it pauses. */
export function Announced({ of }: { of: components["schemas"]["Announcement"] }) {
  return (
    <>
      <b>{of.text}</b> {say.pauses(of.pauses, of.until && when(of.until))}
    </>
  );
}
