import { useMutation, useQuery } from "@tanstack/react-query";
import { Alert, Button, Form, Input, Modal, Popconfirm, Select, Space, Table } from "antd";
import { useState } from "react";
import { when } from "words/times";
import * as say from "words/parts/Quarantine";
import { people as everybody } from "../service/people";
import { giveStray, keepStray, quarantine, removeStray, type Stray } from "../service/quarantine";
import { repositories as registered } from "../service/repositories";
import { Ask } from "./Ask";
import { nothing } from "./Page";
import { ProblemNote } from "./ProblemNote";
import { useDone } from "./useDone";

/** What the yard has of workspaces that no record knows: told where there is any that nobody has looked at, and decided on. */
export function Quarantine() {
  const [open, setOpen] = useState(false);
  const all = useQuery(quarantine);
  const left = all.data?.filter((s) => !s.kept).length ?? 0;
  if (!all.data?.length && !open) return null;
  return (
    <>
      {left > 0 ? (
        <Alert type="warning" showIcon style={{ marginBottom: 12 }} title={say.noRecordKnows(left)} description={say.theyCameAfter()} action={<Button onClick={() => setOpen(true)}>{say.lookAtThem()}</Button>} />
      ) : (
        <Button type="link" style={{ padding: 0, marginBottom: 8 }} onClick={() => setOpen(true)}>
          {say.whatNoRecordKnows()}
        </Button>
      )}
      <Modal open={open} title={say.whatNoRecordKnows()} width={980} footer={null} destroyOnHidden onCancel={() => setOpen(false)}>
        <Strays />
      </Modal>
    </>
  );
}

const called = (s: Stray) => (s.name ? `${s.name}.${s.owner ?? say.unknown()}` : s.id);

function Strays() {
  const all = useQuery(quarantine);
  const [asked, setAsked] = useState<{ what: "give" | "keep"; stray: Stray }>();
  const remove = useMutation({ mutationFn: removeStray, ...useDone("quarantine") });
  const close = () => setAsked(undefined);
  return (
    <>
      <ProblemNote error={all.error} />
      <Table<Stray>
        size="small"
        rowKey="id"
        pagination={false}
        loading={all.isPending}
        dataSource={all.data}
        locale={nothing(say.theRecordsKnow())}
        columns={[
          { title: say.whoseItWas(), render: (_, s) => (s.name ? called(s) : <span className="quiet">{s.id}</span>) },
          { title: say.launchedFrom(), render: (_, s) => (s.repository ? `${s.repository} ${s.branch ?? ""}` : <span className="quiet">{say.unknown()}</span>) },
          { title: say.made(), width: 110, className: "number", render: (_, s) => s.made_at && when(s.made_at) },
          { title: say.whatThereIs(), render: (_, s) => [s.files && say.files(), s.other_files && say.otherFiles(), s.runs && say.runs()].filter(Boolean).join(", ") || say.noFiles() },
          { title: say.lookedAt(), render: (_, s) => s.kept && say.keptBy(s.kept.reason, s.kept.by) },
          {
            width: 210,
            align: "right",
            render: (_, s) => (
              <Space size={6}>
                {s.files && (
                  <Button size="small" onClick={() => setAsked({ what: "give", stray: s })}>
                    {say.give()}
                  </Button>
                )}
                <Button size="small" onClick={() => setAsked({ what: "keep", stray: s })}>
                  {say.keep()}
                </Button>
                <Popconfirm title={say.removeIt(called(s))} description={say.noOtherCopy()} okText={say.remove()} okButtonProps={{ danger: true }} onConfirm={() => remove.mutate(s.id)}>
                  <Button size="small" danger loading={remove.isPending && remove.variables === s.id}>
                    {say.remove()}
                  </Button>
                </Popconfirm>
              </Space>
            ),
          },
        ]}
      />
      {asked?.what === "give" && <Give stray={asked.stray} onClose={close} />}
      {asked?.what === "keep" && (
        <Ask<{ reason: string }> title={say.keepIt(called(asked.stray))} ok={say.keep()} ask={(f) => keepStray(asked.stray.id, f.reason)} changes={["quarantine"]} onClose={close}>
          <Form.Item name="reason" label={say.why()} rules={[{ required: true, whitespace: true, message: say.sayWhy() }]}>
            <Input autoFocus maxLength={300} />
          </Form.Item>
        </Ask>
      )}
    </>
  );
}

function Give({ stray, onClose }: { stray: Stray; onClose: () => void }) {
  const people = useQuery(everybody);
  const repositories = useQuery(registered);
  const initial = { to: stray.owner, name: stray.name, repository: stray.repository, branch: stray.branch };
  return (
    <Ask title={say.giveIt(called(stray))} ok={say.give()} about={say.becomesAWorkspace()} initial={initial} ask={(f: typeof initial) => giveStray(stray.id, f)} changes={["quarantine", "workspaces"]} onClose={onClose}>
      <Form.Item name="to" label={say.whoseItBecomes()} rules={[{ required: true, message: say.sayWhose() }]}>
        <Select showSearch options={people.data?.filter((p) => p.role !== "auditor" && !p.closed).map((p) => ({ value: p.name, label: p.name }))} />
      </Form.Item>
      <Form.Item name="name" label={say.name()} rules={[{ required: true, message: say.sayItsName() }]}>
        <Input maxLength={40} />
      </Form.Item>
      <Form.Item name="repository" label={say.repository()} rules={[{ required: true, message: say.sayWhich() }]}>
        <Select showSearch options={repositories.data?.map((r) => ({ value: r.name, label: r.name }))} />
      </Form.Item>
      <Form.Item name="branch" label={say.branch()}>
        <Input placeholder={say.usualBranch()} />
      </Form.Item>
    </Ask>
  );
}
