import { useQuery } from "@tanstack/react-query";
import { Checkbox } from "antd";
import { onlyHere } from "../service/changes";

/** What exists in a workspace and nowhere else; with a way to give it up, where discard is told of it. */
export function WouldBeLost({ workspace, discard }: { workspace: string; discard?: (is: boolean) => void }) {
  const work = useQuery({ ...onlyHere(workspace), retry: false });
  const w = work.data;
  if (!w) return work.error ? <p className="quiet">What exists only in it cannot be looked at now.</p> : <p className="quiet">It is looked at…</p>;
  const all = [...w.uncommitted.map((f) => `not committed: ${f}`), ...w.unpushed.map((c) => `not pushed: ${c}`), ...(w.stashes > 0 ? [`stashes: ${w.stashes}`] : [])];
  return (
    <section aria-label="What exists only here">
      {w.problem && <p className="quiet">It cannot be looked at: {w.problem}</p>}
      {all.length === 0 && !w.problem && <p className="quiet">Nothing exists only in it.</p>}
      <ul className="only-here">
        {all.slice(0, 50).map((l) => (
          <li key={l}>{l}</li>
        ))}
      </ul>
      {all.length > 50 && <p className="quiet">and {all.length - 50} more</p>}
      {discard && (all.length > 0 || w.problem) && <Checkbox onChange={(e) => discard(e.target.checked)}>Give all of that up</Checkbox>}
    </section>
  );
}
