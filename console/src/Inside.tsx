import type { Me } from "./api/client";
import { Frame } from "./Frame";
import { Themed } from "./Themed";

/** What is within: for whoever is signed in. */
export function Inside({ person }: { person: Me }) {
  return (
    <Themed>
      <Frame person={person} />
    </Themed>
  );
}
