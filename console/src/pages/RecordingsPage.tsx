import type { Me } from "../api/client";
import { PageHead } from "../parts/Page";
import { Recordings } from "../parts/Recordings";
import * as say from "words/pages/RecordingsPage";

/** What terminals printed and was kept. */
export function RecordingsPage({ person }: { person: Me }) {
  return (
    <>
      <PageHead title={say.recordings()}>
        <span className="quiet">{say.whatTerminalsPrintedWhere()}</span>
      </PageHead>
      <Recordings mine={person.name} />
    </>
  );
}
