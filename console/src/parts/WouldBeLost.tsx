import { useQuery } from "@tanstack/react-query";
import { Checkbox } from "antd";
import { onlyHere } from "../service/changes";
import * as say from "words/parts/WouldBeLost";

/** What exists in a workspace and nowhere else; with a way to give it up, where discard is told of it. */
export function WouldBeLost({ workspace, discard }: { workspace: string; discard?: (is: boolean) => void }) {
  const work = useQuery({ ...onlyHere(workspace), retry: false });
  const w = work.data;
  if (!w) return work.error ? <p className="quiet">{say.whatExistsOnlyIn()}</p> : <p className="quiet">{say.itIsLookedAt()}</p>;
  const all = [...w.uncommitted.map((f) => say.notCommitted(f)), ...w.unpushed.map((c) => say.notPushed(c)), ...(w.stashes > 0 ? [say.stashes(w.stashes)] : [])];
  return (
    <section aria-label={say.whatExistsOnlyHere()}>
      {w.problem && <p className="quiet">{say.itCannotBeLooked(w.problem)}</p>}
      {all.length === 0 && !w.problem && <p className="quiet">{say.nothingExistsOnlyIn()}</p>}
      <ul className="only-here">
        {all.slice(0, 50).map((l) => (
          <li key={l}>{l}</li>
        ))}
      </ul>
      {all.length > 50 && <p className="quiet">{say.andMore(all.length - 50)}</p>}
      {discard && (all.length > 0 || w.problem) && <Checkbox onChange={(e) => discard(e.target.checked)}>{say.giveAllOfThat()}</Checkbox>}
    </section>
  );
}
