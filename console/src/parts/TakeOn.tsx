import { useMutation, useQuery } from "@tanstack/react-query";
import { Button, Form, Input, Modal, Select, Space, Table } from "antd";
import { useState } from "react";
import { useNavigate } from "react-router";
import { nameOf, type Container } from "../api/client";
import { bytes, cores, money } from "words/amounts";
import { nothing } from "./Page";
import { ProblemNote } from "./ProblemNote";
import { when } from "words/times";
import { containers, sizes as sizesOf, takeOn } from "../service/containers";
import { people as everybody } from "../service/people";
import { repositories as registered } from "../service/repositories";
import * as say from "words/parts/TakeOn";

type Answers = { owner: string; repository: string; name?: string; size?: string };

/** Takes a container that others started in the yard on as somebody's workspace. */
export function TakeOn() {
  const [open, setOpen] = useState(false);
  return (
    <>
      <Button onClick={() => setOpen(true)}>{say.takeAContainerOn()}</Button>
      <Modal open={open} title={say.takeAContainerOn()} width={860} footer={null} destroyOnHidden onCancel={() => setOpen(false)}>
        <Choice />
      </Modal>
    </>
  );
}

function Choice() {
  const navigate = useNavigate();
  const [form] = Form.useForm<Answers>();
  const [chosen, setChosen] = useState<Container>();
  const all = useQuery(containers);
  const sizes = useQuery(sizesOf);
  const people = useQuery(everybody);
  const repositories = useQuery(registered);
  const adopt = useMutation({
    mutationFn: (body: Answers) => takeOn(chosen?.id ?? "", body),
    onSuccess: (w) => void navigate(`/workspaces/${nameOf(w)}`),
    onSettled: () => all.refetch(),
  });
  const choose = (c: Container) => {
    setChosen(c);
    form.setFieldsValue({ name: undefined, size: c.size });
  };
  return (
    <>
      <p className="quiet">{say.theseRunInThe()}</p>
      <ProblemNote error={all.error} />
      <Table<Container>
        size="small"
        rowKey="id"
        pagination={false}
        scroll={{ y: 220 }}
        loading={all.isPending}
        dataSource={all.data}
        locale={nothing(say.noContainerRunsIn())}
        rowSelection={{ type: "radio", selectedRowKeys: chosen ? [chosen.id] : [], onSelect: choose }}
        onRow={(c) => ({ onClick: () => choose(c) })}
        columns={[
          { title: say.container(), dataIndex: "name", ellipsis: true },
          { title: say.image(), dataIndex: "image", ellipsis: true },
          { title: say.started(), width: 120, className: "number", render: (_, c) => when(c.started_at) },
          { title: say.itsOwnBounds(), width: 190, className: "number", render: (_, c) => `${c.cores_milli ? cores(c.cores_milli) : say.anyCores()}, ${c.memory_bytes ? bytes(c.memory_bytes) : say.anyMemory()}` },
          { title: say.size(), width: 100, render: (_, c) => c.size ?? <span className="quiet">{say.toBeGiven()}</span> },
        ]}
      />
      {chosen && (
        <Form form={form} layout="vertical" requiredMark={false} style={{ marginTop: 16 }} onFinish={(answers) => adopt.mutate(answers)}>
          <Space align="start" wrap>
            <Form.Item name="owner" label={say.whoseItBecomes()} rules={[{ required: true, message: say.sayWhose() }]}>
              <Select showSearch style={{ width: 160 }} options={people.data?.filter((p) => p.role !== "auditor" && !p.closed).map((p) => ({ value: p.name, label: p.name }))} />
            </Form.Item>
            <Form.Item name="repository" label={say.countedUnder()} rules={[{ required: true, message: say.sayUnderWhichRepository() }]}>
              <Select showSearch style={{ width: 180 }} options={repositories.data?.map((r) => ({ value: r.name, label: r.name }))} />
            </Form.Item>
            <Form.Item name="size" label={say.countsFor()} rules={[{ required: true, message: say.sayWhichSize() }]}>
              <Select style={{ width: 230 }} options={sizes.data?.map((z) => ({ value: z.name, label: say.anHour(z.name, money(z.hour_micros, z.currency)) }))} />
            </Form.Item>
            <Form.Item name="name" label={say.name()}>
              <Input style={{ width: 160 }} maxLength={40} placeholder={chosen.name} />
            </Form.Item>
          </Space>
          <ProblemNote error={adopt.error} />
          <div>
            <Button type="primary" htmlType="submit" loading={adopt.isPending}>
              {say.takeOn(chosen.name)}
            </Button>
          </div>
        </Form>
      )}
    </>
  );
}
