import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { App, Button, Space, Spin } from "antd";
import { nameOf, type Workspace } from "../api/client";
import { ProblemNote } from "../parts/ProblemNote";
import { choose, difference, type Hunk } from "../service/changes";
import type { Board } from "./boards";

/** How a file differs, hunk by hunk, each to be staged or given up by itself. */
export function ChangeBoard({ workspace: w, of, open }: { workspace: Workspace; of: Extract<Board, { kind: "change" }>; open: (b: Board, beside?: boolean) => void }) {
  const name = nameOf(w);
  const queries = useQueryClient();
  const { modal } = App.useApp();
  const got = useQuery(difference(name, of));
  const go = useMutation({
    mutationFn: (v: { verb: "stage" | "unstage" | "discard"; hunks?: string[] }) => choose(name, v.verb, { folder: of.folder, paths: [of.path], hunks: v.hunks }),
    onSettled: () => queries.invalidateQueries({ queryKey: ["changes", name] }),
  });
  if (got.isPending) return <Spin />;
  const d = got.data;
  const discard = (hunk: Hunk) =>
    modal.confirm({
      title: `Give up this change of ${of.path}?`,
      content: "It is gone then: nothing else has it.",
      okText: "Give it up",
      okButtonProps: { danger: true },
      onOk: () => go.mutateAsync({ verb: "discard", hunks: [hunk.id] }).catch(() => undefined),
    });
  return (
    <div className="change-board" data-change={of.path} data-staged={of.staged}>
      <Space className="board-bar" wrap>
        <span className="quiet">
          {of.path}, {of.staged ? "as it would be committed" : "as it is in the folder"}
        </span>
        <Button size="small" onClick={() => open({ kind: "file", path: `${of.folder}/${of.path}`, line: d?.hunks[0]?.new_start })}>
          Open the file
        </Button>
        {d && (d.hunks.length > 0 || d.binary) && (
          <Button size="small" loading={go.isPending} onClick={() => go.mutate({ verb: of.staged ? "unstage" : "stage" })}>
            {of.staged ? "Unstage all of it" : "Stage all of it"}
          </Button>
        )}
      </Space>
      <ProblemNote error={got.error ?? go.error} />
      {d?.binary && <p className="quiet">It is no text: it is taken as a whole.</p>}
      {d && !d.binary && d.hunks.length === 0 && <p className="quiet">{of.staged ? "Nothing of it is staged." : "Nothing of it is left to be staged."}</p>}
      {d?.hunks.map((h) => (
        <section key={h.id} className="hunk" aria-label={`Line ${h.new_start}`} data-hunk={h.id}>
          <div className="hunk-head">
            <span className="quiet small">
              line {h.new_start}
              {h.about && `, ${h.about}`}
            </span>
            <span className="spacer" />
            {!of.staged && (
              <Button size="small" type="text" disabled={go.isPending} onClick={() => discard(h)}>
                Give up
              </Button>
            )}
            <Button size="small" type="text" disabled={go.isPending} onClick={() => go.mutate({ verb: of.staged ? "unstage" : "stage", hunks: [h.id] })}>
              {of.staged ? "Unstage" : "Stage"}
            </Button>
          </div>
          <Lines of={h} />
        </section>
      ))}
      {d?.cut && <p className="quiet">There is more than is shown here.</p>}
    </div>
  );
}

/** The lines of a hunk, with their numbers before and after. */
function Lines({ of: h }: { of: Hunk }) {
  let before = h.old_start;
  let after = h.new_start;
  return (
    <pre className="diff" tabIndex={0}>
      {h.lines.map((l, i) => {
        const kind = l[0] === "+" ? "added" : l[0] === "-" ? "removed" : l[0] === "\\" ? "note" : "same";
        const numbers = `${kind === "added" || kind === "note" ? "" : before++}`.padStart(5) + `${kind === "removed" || kind === "note" ? "" : after++}`.padStart(6);
        return (
          <div key={i} className={kind}>
            <span className="diff-number" aria-hidden>
              {numbers}
            </span>{" "}
            {l}
          </div>
        );
      })}
    </pre>
  );
}
