import { useMutation, useQuery } from "@tanstack/react-query";
import { Alert, App, Button, Checkbox, Form, Input, InputNumber, Table, Tooltip } from "antd";
import { Link } from "react-router";
import { Ask } from "./Ask";
import { ProblemNote } from "./ProblemNote";
import { exact, when } from "./time";
import { endLook, letLook, looks, looksOfOthers } from "../service/terminals";
import { useDone } from "./useDone";

/** Who may look at the terminals of a workspace, and the end of that. */
export function WhoMayLook({ workspace }: { workspace: string }) {
  const may = useQuery(looks(workspace));
  const end = useMutation({ mutationFn: (l: { terminal: string; person: string }) => endLook(workspace, l), ...useDone("looks") });
  return (
    <>
      <ProblemNote error={may.error ?? end.error} />
      {(may.data?.length ?? 0) > 0 && (
        <Table
          size="small"
          style={{ marginBottom: 8 }}
          rowKey={(l) => l.terminal + l.person}
          pagination={false}
          dataSource={may.data}
          columns={[
            { title: "Who may look", dataIndex: "person" },
            { title: "At terminal", dataIndex: "terminal" },
            { title: "May", render: (_, l) => (l.writes ? "look and type, as you" : "look") },
            { title: "Until", render: (_, l) => <Tooltip title={exact(l.until)}>{when(l.until)}</Tooltip> },
            {
              title: "",
              align: "right",
              render: (_, l) => (
                <Button size="small" aria-label={`End it: ${l.person} may look no more`} loading={end.isPending} onClick={() => end.mutate(l)}>
                  End it
                </Button>
              ),
            },
          ]}
        />
      )}
    </>
  );
}

interface Letting {
  person: string;
  minutes: number;
  writes: boolean;
}

export function LetLook({ workspace, label, close }: { workspace: string; label: string; close: () => void }) {
  const { message } = App.useApp();
  return (
    <Ask<Letting, Awaited<ReturnType<typeof letLook>>>
      title={`Let a colleague look at the terminal ${label}`}
      ok="Let them look"
      about="They see what it shows, also what it showed before, and nothing else of the workspace. You see that they are there."
      initial={{ minutes: 60, writes: false }}
      ask={(v) => letLook(workspace, label, v.person.trim(), { writes: v.writes, seconds: v.minutes * 60 })}
      changes={["looks"]}
      onClose={close}
      onDone={(l) => {
        void message.success(`${l?.person} finds it on their page of workspaces.`);
        close();
      }}
    >
      <Form.Item name="person" label="Who, by their name here" rules={[{ required: true, message: "Name a colleague." }]}>
        <Input autoFocus />
      </Form.Item>
      <Form.Item name="minutes" label="For how many minutes" rules={[{ required: true, message: "Say for how long." }]}>
        <InputNumber min={1} max={1440} />
      </Form.Item>
      <Form.Item name="writes" valuePropName="checked" extra="What they do then is done as you, with your secrets.">
        <Checkbox>They may type, too</Checkbox>
      </Form.Item>
    </Ask>
  );
}

/** The terminals of others that one may look at now. */
export function LooksOfOthers() {
  const looks = useQuery(looksOfOthers);
  return (looks.data ?? []).map((l) => (
    <Alert
      key={`${l.owner} ${l.workspace} ${l.terminal}`}
      type="info"
      showIcon
      style={{ marginBottom: 8 }}
      title={
        <>
          {l.owner} lets you {l.writes ? "look at and type into" : "look at"} the terminal {l.terminal} of {l.workspace} until <Tooltip title={exact(l.until)}>{when(l.until)}</Tooltip>.
        </>
      }
      action={<Link to={`/looks/${l.workspace}.${l.owner}/${l.terminal}`}>Look</Link>}
    />
  ));
}
