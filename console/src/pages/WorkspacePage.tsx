import { useParams } from "react-router";
import type { Me } from "../api/client";
import { Story } from "../parts/Story";

/** One workspace: what it is, how it came up, its log, its ports, its journal. */
export function WorkspacePage({ person }: { person: Me }) {
  const { name = "" } = useParams();
  return <Story key={name} name={name} person={person} head />;
}
