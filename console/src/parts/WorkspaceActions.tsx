import { useMutation, useQueryClient } from "@tanstack/react-query";
import { App, Button, ConfigProvider, Form, Input, Select, Space } from "antd";
import { useState } from "react";
import { useNavigate } from "react-router";
import { nameOf, type Workspace, type Me, may, whose } from "../api/client";
import { Ask } from "./Ask";
import { ProblemNote } from "./ProblemNote";
import { WouldBeLost } from "./WouldBeLost";
import { hold, letGo, letRest, rebuild, remove as removeIt, start, stop } from "../service/workspaces";
import { useDone } from "./useDone";
import * as say from "words/parts/WorkspaceActions";

/** Asks how long to hold a workspace, and why. */
function Hold({ of: w }: { of: Workspace }) {
  const [open, setOpen] = useState(false);
  const end = useMutation({ mutationFn: () => letRest(nameOf(w)), ...useDone("workspaces") });
  if (w.rest?.held_until) return <Button onClick={() => end.mutate()}>{say.letItRest()}</Button>;
  return (
    <>
      <Button onClick={() => setOpen(true)}>{say.hold()}</Button>
      {open && (
        <Ask<{ seconds: number; why: string }> title={say.keepFromBeingPut(w.name)} ok={say.hold()} initial={{ seconds: 7200 }} ask={(f) => hold(nameOf(w), f.seconds, f.why)} changes={["workspaces"]} onClose={() => setOpen(false)}>
          <Form.Item name="seconds" label={say.forIt()}>
            <Select options={[1, 2, 4, 8, 12].map((h) => ({ value: h * 3600, label: `${h} h` }))} />
          </Form.Item>
          <Form.Item name="why" label={say.why()} rules={[{ required: true, message: say.sayWhy() }]}>
            <Input autoFocus maxLength={300} placeholder={say.aLongTestRuns()} />
          </Form.Item>
        </Ask>
      )}
    </>
  );
}

/** What may be asked of a workspace now, by whoever looks. */
export function Actions({ of: w, person, small }: { of: Workspace; person: Me; small?: boolean }) {
  const { modal, message } = App.useApp();
  const navigate = useNavigate();
  const queries = useQueryClient();
  const failed = (e: Error) => modal.error({ title: say.thisWasNotDone(w.name), content: <ProblemNote error={e} />, width: 640 });
  const ask = useMutation({
    mutationFn: (verb: "start" | "stop" | "rebuild") => (verb === "rebuild" ? rebuild : verb === "start" ? start : stop)(nameOf(w)),
    onError: failed,
    onSettled: () => queries.invalidateQueries({ queryKey: ["workspaces"] }),
  });
  const remove = useMutation({
    mutationFn: (discard: boolean) => (w.adopted ? letGo(nameOf(w)) : removeIt(nameOf(w), discard)),
    onError: failed,
    onSuccess: () => {
      void message.info(say.isBeingLetGo(w.name, w.adopted));
      void navigate("/");
    },
  });
  const drives = may(person, "workspace.drive", whose(person, w));
  const stops = may(person, "workspace.stop", whose(person, w));
  const is = (...phases: Workspace["phase"][]) => phases.includes(w.phase);
  return (
    <ConfigProvider componentSize={small ? "small" : undefined}>
      <Space wrap>
        {drives && is("ready") && !w.adopted && <Hold of={w} />}
        {drives && is("stopped", "failed") && (
          <Button type="primary" onClick={() => ask.mutate("start")}>
            {say.start()}
          </Button>
        )}
        {stops && is("waiting", "preparing", "starting", "ready") && <Button onClick={() => ask.mutate("stop")}>{say.stop()}</Button>}
        {drives && !w.adopted && is("ready", "stopped", "failed") && (
          <Button disabled={w.rebuilding} onClick={() => ask.mutate("rebuild")}>
            {say.rebuild()}
          </Button>
        )}
        {w.adopted && may(person, "container.adopt") && !is("removing", "removed") && (
          <Button
            onClick={() =>
              modal.confirm({
                title: say.letGoOfAdopted(w.adopted),
                content: say.terminalsAndCommandsThat(),
                okText: say.letItGo(),
                onOk: () => remove.mutateAsync(false).catch(() => undefined),
              })
            }
          >
            {say.letGo()}
          </Button>
        )}
        {drives && !w.adopted && !is("removing", "removed") && (
          <Button
            danger
            onClick={() => {
              let gone = false;
              modal.confirm({
                title: say.removeWithItsFiles(w.name),
                width: 560,
                content: w.phase === "ready" && w.owner === person.name ? <WouldBeLost workspace={nameOf(w)} discard={(is) => (gone = is)} /> : say.itIsRefusedWhile(),
                okText: say.remove(),
                okButtonProps: { danger: true },
                onOk: () => remove.mutateAsync(gone).catch(() => undefined),
              });
            }}
          >
            {say.remove()}
          </Button>
        )}
      </Space>
    </ConfigProvider>
  );
}
