import type { Person } from "../api/client";
import { PageHead } from "../parts/Page";
import { Recordings } from "../parts/Recordings";

/** What terminals printed and was kept. */
export function RecordingsPage({ person }: { person: Person }) {
  return (
    <>
      <PageHead title="Recordings">
        <span className="quiet">what terminals printed, where the house rules have it kept</span>
      </PageHead>
      <Recordings mine={person.name} />
    </>
  );
}
