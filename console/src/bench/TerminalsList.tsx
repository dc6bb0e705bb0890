import { useMutation, useQuery } from "@tanstack/react-query";
import { Button, Space } from "antd";
import { useState } from "react";
import { nameOf, type Workspace } from "../api/client";
import { LetLook, WhoMayLook } from "../parts/Looks";
import { Recordings } from "../parts/Recordings";
import { ProblemNote } from "../parts/ProblemNote";
import { when } from "words/times";
import { useDone } from "../parts/useDone";
import { freeLabel, record, terminals } from "../service/terminals";
import type { Board } from "./boards";
import * as say from "words/bench/TerminalsList";

/** The terminals of a workspace: what runs in each, who is there, and who may be. */
export function TerminalsList({ workspace: w, boards, open }: { workspace: Workspace; boards: Board[]; open: (b: Board, beside?: boolean) => void }) {
  const name = nameOf(w);
  const all = useQuery(terminals(name));
  const [letting, setLetting] = useState<string>();
  const keep = useMutation({ mutationFn: (label: string) => record(name, label), ...useDone("recordings", "terminals") });
  const shown = boards.flatMap((b) => (b.kind === "terminal" ? [b.label] : []));
  const labels = [...new Set([...(all.data ?? []).map((t) => t.label), ...shown])];
  return (
    <div className="list scrolls">
      <ProblemNote error={all.error} />
      <Space className="list-head" wrap>
        <Button size="small" disabled={w.phase !== "ready"} onClick={() => open({ kind: "terminal", label: freeLabel(labels) }, true)}>
          {say.anotherTerminal()}
        </Button>
      </Space>
      {labels.length === 0 && <p className="quiet">{say.noneIsOpen()}</p>}
      <ul className="rows">
        {labels.map((label) => {
          const t = all.data?.find((o) => o.label === label);
          return (
            <li key={label} data-terminal={label}>
              <button type="button" className="plain" onClick={(e) => open({ kind: "terminal", label }, e.ctrlKey || e.metaKey)}>
                <strong>{label}</strong> {t?.program}
              </button>
              <div className="quiet small">
                {t && say.since(when(t.since))}
                {t && t.lookers.length > 0 && say.there(t.lookers.map((l) => l.person).join(", "))}
                {t?.recorded && say.recorded()}
              </div>
              <Space size={4}>
                <Button size="small" type="text" onClick={() => setLetting(label)}>
                  {say.letAColleagueLook()}
                </Button>
                {t && !t.recorded && (
                  <Button size="small" type="text" onClick={() => keep.mutate(label)}>
                    {say.recordIt()}
                  </Button>
                )}
              </Space>
            </li>
          );
        })}
      </ul>
      <WhoMayLook workspace={name} />
      <Recordings of={name} mine={w.owner} />
      {letting && <LetLook workspace={name} label={letting} close={() => setLetting(undefined)} />}
    </div>
  );
}
