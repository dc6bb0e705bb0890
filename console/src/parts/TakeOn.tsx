import { useMutation, useQuery } from "@tanstack/react-query";
import { Button, Form, Input, Modal, Select, Space, Table } from "antd";
import { useState } from "react";
import { useNavigate } from "react-router";
import { nameOf, type Container } from "../api/client";
import { bytes, cores, money } from "./amounts";
import { nothing } from "./Page";
import { ProblemNote } from "./ProblemNote";
import { when } from "./time";
import { containers, sizes as sizesOf, takeOn } from "../service/containers";
import { people as everybody } from "../service/people";
import { repositories as registered } from "../service/repositories";

type Answers = { owner: string; repository: string; name?: string; size?: string };

/** Takes a container that others started in the yard on as somebody's workspace. */
export function TakeOn() {
  const [open, setOpen] = useState(false);
  return (
    <>
      <Button onClick={() => setOpen(true)}>Take a container on</Button>
      <Modal open={open} title="Take a container on" width={860} footer={null} destroyOnHidden onCancel={() => setOpen(false)}>
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
      <p className="quiet">These run in the yard and belong to nobody here. One that is taken on gets a terminal, ports, and its place in limits and cost; it gets no secrets, and is never put to rest, rebuilt or removed.</p>
      <ProblemNote error={all.error} />
      <Table<Container>
        size="small"
        rowKey="id"
        pagination={false}
        scroll={{ y: 220 }}
        loading={all.isPending}
        dataSource={all.data}
        locale={nothing("No container runs in the yard but those of workspaces.")}
        rowSelection={{ type: "radio", selectedRowKeys: chosen ? [chosen.id] : [], onSelect: choose }}
        onRow={(c) => ({ onClick: () => choose(c) })}
        columns={[
          { title: "Container", dataIndex: "name", ellipsis: true },
          { title: "Image", dataIndex: "image", ellipsis: true },
          { title: "Started", width: 120, className: "number", render: (_, c) => when(c.started_at) },
          { title: "Its own bounds", width: 190, className: "number", render: (_, c) => `${c.cores_milli ? cores(c.cores_milli) : "any cores"}, ${c.memory_bytes ? bytes(c.memory_bytes) : "any memory"}` },
          { title: "Size", width: 100, render: (_, c) => c.size ?? <span className="quiet">to be given</span> },
        ]}
      />
      {chosen && (
        <Form form={form} layout="vertical" requiredMark={false} style={{ marginTop: 16 }} onFinish={(answers) => adopt.mutate(answers)}>
          <Space align="start" wrap>
            <Form.Item name="owner" label="Whose it becomes" rules={[{ required: true, message: "Say whose" }]}>
              <Select showSearch style={{ width: 160 }} options={people.data?.filter((p) => p.role !== "auditor" && !p.closed).map((p) => ({ value: p.name, label: p.name }))} />
            </Form.Item>
            <Form.Item name="repository" label="Counted under" rules={[{ required: true, message: "Say under which repository" }]}>
              <Select showSearch style={{ width: 180 }} options={repositories.data?.map((r) => ({ value: r.name, label: r.name }))} />
            </Form.Item>
            <Form.Item name="size" label="Counts for" rules={[{ required: true, message: "Say which size" }]}>
              <Select style={{ width: 230 }} options={sizes.data?.map((z) => ({ value: z.name, label: `${z.name}, ${money(z.hour_micros, z.currency)} an hour` }))} />
            </Form.Item>
            <Form.Item name="name" label="Name">
              <Input style={{ width: 160 }} maxLength={40} placeholder={chosen.name} />
            </Form.Item>
          </Space>
          <ProblemNote error={adopt.error} />
          <div>
            <Button type="primary" htmlType="submit" loading={adopt.isPending}>
              Take {chosen.name} on
            </Button>
          </div>
        </Form>
      )}
    </>
  );
}
