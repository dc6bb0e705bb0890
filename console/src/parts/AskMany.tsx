import { DownOutlined } from "@ant-design/icons";
import { useMutation } from "@tanstack/react-query";
import { Button, Checkbox, Dropdown, Input, InputNumber, Modal, Space } from "antd";
import { useState } from "react";
import { nameOf, type Operation, type WorkspaceRow } from "../api/client";
import { OperationView } from "./OperationView";
import { ProblemNote } from "./ProblemNote";
import { askMany } from "../service/operations";
import * as say from "words/parts/AskMany";

type Verb = Operation["verb"];

/** What each verb comes to, and which workspaces it makes sense for. */
const verbs: Record<Verb, { word: string; means: string; fits: (w: WorkspaceRow) => boolean; danger?: boolean }> = {
  start: { word: say.start(), means: say.theyComeUpAgain(), fits: (w) => w.phase === "stopped" || w.phase === "failed" },
  stop: { word: say.stop(), means: say.theirFilesStayWhat(), fits: (w) => ["ready", "starting", "preparing", "waiting"].includes(w.phase) },
  rebuild: { word: say.rebuild(), means: say.eachGetsAContainer(), fits: (w) => !w.adopted && ["ready", "stopped", "failed"].includes(w.phase) },
  hold: { word: say.hold(), means: say.theyAreNotPut(), fits: (w) => !w.adopted && w.phase === "ready" },
  "let rest": { word: say.letRest(), means: say.holdsEndTheyAre(), fits: (w) => w.conditions.some((c) => c.kind === "held") },
  tell: { word: say.tellTheOwners(), means: say.whatYouWriteStands(), fits: () => true },
  remove: { word: say.remove(), means: say.withAllFilesOne(), fits: (w) => !w.adopted && w.phase !== "removing", danger: true },
};

/** Asks one verb of the workspaces that are chosen. */
export function AskMany({ chosen, onDone }: { chosen: WorkspaceRow[]; onDone: () => void }) {
  const [verb, setVerb] = useState<Verb>();
  const items = (Object.keys(verbs) as Verb[]).map((v) => {
    const n = chosen.filter(verbs[v].fits).length;
    return { key: v, label: n === chosen.length ? verbs[v].word : `${verbs[v].word} (${n})`, disabled: n === 0, danger: verbs[v].danger };
  });
  return (
    <>
      {chosen.length > 0 && (
        <Dropdown trigger={["click"]} menu={{ items, onClick: (i) => setVerb(i.key as Verb) }}>
          <Button>{say.withChosen(chosen.length, <DownOutlined />)}</Button>
        </Dropdown>
      )}
      {verb && (
        <Asking
          verb={verb}
          of={chosen.filter(verbs[verb].fits)}
          close={(asked) => {
            setVerb(undefined);
            if (asked) onDone();
          }}
        />
      )}
    </>
  );
}

function Asking({ verb, of, close }: { verb: Verb; of: WorkspaceRow[]; close: (asked: boolean) => void }) {
  // What is chosen when it is asked stays so while it is shown.
  const [meant] = useState(of);
  const [reason, setReason] = useState("");
  const [hours, setHours] = useState(2);
  const [discard, setDiscard] = useState(false);
  const { word, means, danger } = verbs[verb];
  const ask = useMutation({
    mutationFn: () => askMany({ verb, names: meant.map(nameOf), reason: reason.trim() || undefined, seconds: verb === "hold" ? hours * 3600 : undefined, discard: verb === "remove" && discard ? true : undefined }),
  });
  const wantsReason = verb === "hold" || verb === "tell";
  const title = meant.length === 1 && meant[0] ? nameOf(meant[0]) : say.workspaces(meant.length);
  return (
    <Modal
      open
      width={640}
      title={`${word}: ${title}`}
      okText={ask.data ? say.close() : word}
      cancelButtonProps={{ style: { display: ask.data ? "none" : undefined } }}
      okButtonProps={{ danger: danger && !ask.data, loading: ask.isPending, disabled: wantsReason && !reason.trim() }}
      onOk={() => (ask.data ? close(true) : ask.mutate())}
      onCancel={() => close(Boolean(ask.data))}
    >
      {ask.data ? (
        <OperationView id={ask.data.id} />
      ) : (
        <Space direction="vertical" style={{ width: "100%" }}>
          <span>{means}</span>
          <span className="quiet">{meant.slice(0, 12).map(nameOf).join(", ") + (meant.length > 12 ? say.andMore(meant.length - 12) : "")}</span>
          {verb === "hold" && <label>{say.forHours(<InputNumber aria-label={say.hours()} min={1} max={168} value={hours} onChange={(h) => setHours(h ?? 1)} />)}</label>}
          <Input aria-label={say.reason()} maxLength={300} placeholder={verb === "tell" ? say.whatTheyShouldKnow() : wantsReason ? say.why() : say.whyForTheOwners()} value={reason} onChange={(e) => setReason(e.target.value)} />
          {verb === "remove" && (
            <Checkbox checked={discard} onChange={(e) => setDiscard(e.target.checked)}>
              {say.giveUpWorkThat()}
            </Checkbox>
          )}
          <ProblemNote error={ask.error} />
        </Space>
      )}
    </Modal>
  );
}
