import { useMutation, useQueryClient } from "@tanstack/react-query";
import { App, Button, ConfigProvider, Form, Input, Select, Space } from "antd";
import { useState } from "react";
import { useNavigate } from "react-router";
import { nameOf, type Person, type Workspace } from "../api/client";
import { Ask } from "./Ask";
import { ProblemNote } from "./ProblemNote";
import { WouldBeLost } from "./WouldBeLost";
import { hold, letGo, letRest, rebuild, remove as removeIt, start, stop } from "../service/workspaces";
import { useDone } from "./useDone";

/** Asks how long to hold a workspace, and why. */
function Hold({ of: w }: { of: Workspace }) {
  const [open, setOpen] = useState(false);
  const end = useMutation({ mutationFn: () => letRest(nameOf(w)), ...useDone("workspaces") });
  if (w.rest?.held_until) return <Button onClick={() => end.mutate()}>Let it rest</Button>;
  return (
    <>
      <Button onClick={() => setOpen(true)}>Hold</Button>
      {open && (
        <Ask<{ seconds: number; why: string }> title={`Keep ${w.name} from being put to rest`} ok="Hold" initial={{ seconds: 7200 }} ask={(f) => hold(nameOf(w), f.seconds, f.why)} changes={["workspaces"]} onClose={() => setOpen(false)}>
          <Form.Item name="seconds" label="For">
            <Select options={[1, 2, 4, 8, 12].map((h) => ({ value: h * 3600, label: `${h} h` }))} />
          </Form.Item>
          <Form.Item name="why" label="Why" rules={[{ required: true, message: "Say why" }]}>
            <Input autoFocus maxLength={300} placeholder="a long test runs" />
          </Form.Item>
        </Ask>
      )}
    </>
  );
}

/** What may be asked of a workspace now, by whoever looks. */
export function Actions({ of: w, person, small }: { of: Workspace; person: Person; small?: boolean }) {
  const { modal, message } = App.useApp();
  const navigate = useNavigate();
  const queries = useQueryClient();
  const failed = (e: Error) => modal.error({ title: `This was not done with ${w.name}`, content: <ProblemNote error={e} />, width: 640 });
  const ask = useMutation({
    mutationFn: (verb: "start" | "stop" | "rebuild") =>
      (verb === "rebuild" ? rebuild : verb === "start" ? start : stop)(nameOf(w)),
    onError: failed,
    onSettled: () => queries.invalidateQueries({ queryKey: ["workspaces"] }),
  });
  const remove = useMutation({
    mutationFn: (discard: boolean) => (w.adopted ? letGo(nameOf(w)) : removeIt(nameOf(w), discard)),
    onError: failed,
    onSuccess: () => {
      void message.info(`${w.name} is being ${w.adopted ? "let go" : "removed"}`);
      void navigate("/");
    },
  });
  const drives = w.owner === person.name || person.role === "operator";
  const stops = drives || person.role === "lead";
  const is = (...phases: Workspace["phase"][]) => phases.includes(w.phase);
  return (
    <ConfigProvider componentSize={small ? "small" : undefined}>
      <Space wrap>
        {drives && is("ready") && !w.adopted && <Hold of={w} />}
        {drives && is("stopped", "failed") && (
          <Button type="primary" onClick={() => ask.mutate("start")}>
            Start
          </Button>
        )}
        {stops && is("waiting", "preparing", "starting", "ready") && <Button onClick={() => ask.mutate("stop")}>Stop</Button>}
        {drives && !w.adopted && is("ready", "stopped", "failed") && (
          <Button disabled={w.rebuilding} onClick={() => ask.mutate("rebuild")}>
            Rebuild
          </Button>
        )}
        {w.adopted && person.role === "operator" && !is("removing", "removed") && (
          <Button
            onClick={() =>
              modal.confirm({
                title: `Let ${w.adopted} go?`,
                content: "Terminals and commands that were opened through it end. The container goes on as it is, and counts for nobody.",
                okText: "Let it go",
                onOk: () => remove.mutateAsync(false).catch(() => undefined),
              })
            }
          >
            Let go
          </Button>
        )}
        {drives && !w.adopted && !is("removing", "removed") && (
          <Button
            danger
            onClick={() => {
              let gone = false;
              modal.confirm({
                title: `Remove ${w.name} with its files?`,
                width: 560,
                content: w.phase === "ready" && w.owner === person.name ? <WouldBeLost workspace={nameOf(w)} discard={(is) => (gone = is)} /> : "It is refused while work in it is not committed, not pushed, or cannot be looked at.",
                okText: "Remove",
                okButtonProps: { danger: true },
                onOk: () => remove.mutateAsync(gone).catch(() => undefined),
              });
            }}
          >
            Remove
          </Button>
        )}
      </Space>
    </ConfigProvider>
  );
}
