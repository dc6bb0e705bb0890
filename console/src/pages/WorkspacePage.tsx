import { useParams } from "react-router";
import type { Person } from "../api/client";
import { Story } from "../parts/Story";

/** One workspace: what it is, how it came up, its log, its ports, its journal. */
export function WorkspacePage({ person }: { person: Person }) {
  const { name = "" } = useParams();
  return <Story key={name} name={name} person={person} head />;
}
