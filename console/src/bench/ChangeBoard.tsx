import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { App, Button, Space, Spin } from "antd";
import { nameOf, type Workspace } from "../api/client";
import { ProblemNote } from "../parts/ProblemNote";
import { choose, difference, type Hunk } from "../service/changes";
import type { Board } from "./boards";
import * as say from "words/bench/ChangeBoard";

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
      title: say.giveUpThisChange(of.path),
      content: say.itIsGoneThen(),
      okText: say.giveItUp(),
      okButtonProps: { danger: true },
      onOk: () => go.mutateAsync({ verb: "discard", hunks: [hunk.id] }).catch(() => undefined),
    });
  return (
    <div className="change-board" data-change={of.path} data-staged={of.staged}>
      <Space className="board-bar" wrap>
        <span className="quiet">
          {of.path}, {of.staged ? say.asItWouldBe() : say.asItIsIn()}
        </span>
        <Button size="small" onClick={() => open({ kind: "file", path: `${of.folder}/${of.path}`, line: d?.hunks[0]?.new_start })}>
          {say.openTheFile()}
        </Button>
        {d && (d.hunks.length > 0 || d.binary) && (
          <Button size="small" loading={go.isPending} onClick={() => go.mutate({ verb: of.staged ? "unstage" : "stage" })}>
            {of.staged ? say.unstageAllOfIt() : say.stageAllOfIt()}
          </Button>
        )}
      </Space>
      <ProblemNote error={got.error ?? go.error} />
      {d?.binary && <p className="quiet">{say.itIsNoText()}</p>}
      {d && !d.binary && d.hunks.length === 0 && <p className="quiet">{of.staged ? say.nothingOfItIs() : say.nothingOfItIsLeft()}</p>}
      {d?.hunks.map((h) => (
        <section key={h.id} className="hunk" aria-label={say.line(h.new_start)} data-hunk={h.id}>
          <div className="hunk-head">
            <span className="quiet small">{say.lineOfNewStart(h.new_start, h.about && `, ${h.about}`)}</span>
            <span className="spacer" />
            {!of.staged && (
              <Button size="small" type="text" disabled={go.isPending} onClick={() => discard(h)}>
                {say.giveUp()}
              </Button>
            )}
            <Button size="small" type="text" disabled={go.isPending} onClick={() => go.mutate({ verb: of.staged ? "unstage" : "stage", hunks: [h.id] })}>
              {of.staged ? say.unstage() : say.stage()}
            </Button>
          </div>
          <Lines of={h} />
        </section>
      ))}
      {d?.cut && <p className="quiet">{say.thereIsMoreThan()}</p>}
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
