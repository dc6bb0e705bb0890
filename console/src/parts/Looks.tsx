import { useMutation, useQuery } from "@tanstack/react-query";
import { Alert, App, Button, Checkbox, Form, Input, InputNumber, Table, Tooltip } from "antd";
import { Link } from "react-router";
import { Ask } from "./Ask";
import { ProblemNote } from "./ProblemNote";
import { exact, when } from "words/times";
import { endLook, letLook, looks, looksOfOthers } from "../service/terminals";
import { useDone } from "./useDone";
import * as say from "words/parts/Looks";

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
            { title: say.whoMayLook(), dataIndex: "person" },
            { title: say.atTerminal(), dataIndex: "terminal" },
            { title: say.may(), render: (_, l) => (l.writes ? say.lookAndTypeAs() : "look") },
            { title: say.until(), render: (_, l) => <Tooltip title={exact(l.until)}>{when(l.until)}</Tooltip> },
            {
              title: "",
              align: "right",
              render: (_, l) => (
                <Button size="small" aria-label={say.endItMayLook(l.person)} loading={end.isPending} onClick={() => end.mutate(l)}>
                  {say.endIt()}
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
      title={say.letAColleagueLook(label)}
      ok={say.letThemLook()}
      about={say.theySeeWhatIt()}
      initial={{ minutes: 60, writes: false }}
      ask={(v) => letLook(workspace, label, v.person.trim(), { writes: v.writes, seconds: v.minutes * 60 })}
      changes={["looks"]}
      onClose={close}
      onDone={(l) => {
        void message.success(say.findsItOnTheir(l?.person));
        close();
      }}
    >
      <Form.Item name="person" label={say.whoByTheirName()} rules={[{ required: true, message: say.nameAColleague() }]}>
        <Input autoFocus />
      </Form.Item>
      <Form.Item name="minutes" label={say.forHowManyMinutes()} rules={[{ required: true, message: say.sayForHowLong() }]}>
        <InputNumber min={1} max={1440} />
      </Form.Item>
      <Form.Item name="writes" valuePropName="checked" extra={say.whatTheyDoThen()}>
        <Checkbox>{say.theyMayTypeToo()}</Checkbox>
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
      title={say.letsYouLookAt(l.owner, l.writes, l.terminal, l.workspace, <Tooltip title={exact(l.until)}>{when(l.until)}</Tooltip>)}
      action={<Link to={`/looks/${l.workspace}.${l.owner}/${l.terminal}`}>{say.look()}</Link>}
    />
  ));
}
