import { CheckCircleFilled, CloseCircleFilled } from "@ant-design/icons";
import { useMutation, useQuery } from "@tanstack/react-query";
import { App, Button, Form, Input, Modal, Select, Space, Table, Tooltip, Typography, theme } from "antd";
import { useState } from "react";
import { api, take, type Delivery, type Person, type Webhook, whole } from "../api/client";
import { nothing, PageHead } from "../parts/Page";
import { ProblemNote } from "../parts/ProblemNote";
import { exact, took, when } from "../parts/time";
import { useDone } from "../parts/useDone";

/** Addresses outside that are told of journal entries. */
export function WebhooksPage({ person }: { person: Person }) {
  const { token } = theme.useToken();
  const { modal } = App.useApp();
  const [adding, setAdding] = useState(false);
  const changes = person.role === "operator";
  const hooks = useQuery({ queryKey: ["webhooks"], queryFn: ({ signal }) => whole((page) => api.GET("/api/v1/webhooks", { signal, params: { query: page } })), refetchInterval: 10_000 });
  const done = useDone("webhooks");
  const test = useMutation({
    mutationFn: (w: Webhook) => take(api.POST("/api/v1/webhooks/{webhook}/test", { params: { path: { webhook: w.id } } })),
    ...done,
    onSuccess: (d) => void (d.problem ? modal.error({ title: "The test was not taken", content: d.problem }) : modal.success({ title: `The test was taken with ${d.status} after ${took(d.took_ms)}` })),
  });
  const drop = useMutation({ mutationFn: (w: Webhook) => take(api.DELETE("/api/v1/webhooks/{webhook}", { params: { path: { webhook: w.id } } })), ...done });
  return (
    <>
      <PageHead
        title="Webhooks"
        action={
          changes && (
            <Button type="primary" onClick={() => setAdding(true)}>
              Add a webhook
            </Button>
          )
        }
      />
      <p className="quiet">Each is told of the journal&apos;s entries in their order, marked with its key and with the signed head of the journal. What is not taken is sent again; nothing is passed over.</p>
      <ProblemNote error={hooks.error} />
      <Table<Webhook>
        size="small"
        rowKey="id"
        pagination={false}
        loading={hooks.isPending}
        dataSource={hooks.data}
        locale={nothing("Nobody outside is told yet.")}
        expandable={{ expandedRowRender: (w) => <Log of={w} /> }}
        columns={[
          { title: "Address", dataIndex: "url", ellipsis: true },
          { title: "Kinds", render: (_, w) => w.kinds.join(", ") || "all" },
          { title: "Told up to", dataIndex: "cursor", align: "right", className: "number", width: 110 },
          {
            title: "State",
            render: (_, w) =>
              w.failing_since ? (
                <Tooltip title={`since ${exact(w.failing_since)}`}>
                  <span data-hook="failing" style={{ color: token.colorError }}>
                    <CloseCircleFilled /> {w.problem}
                  </span>
                </Tooltip>
              ) : (
                <span data-hook="well" style={{ color: token.colorSuccess }}>
                  <CheckCircleFilled /> well
                </span>
              ),
          },
          { title: "Added", render: (_, w) => `${when(w.created_at)} by ${w.made_by}` },
          {
            title: "",
            align: "right",
            width: 160,
            render: (_, w) =>
              changes && (
                <Space>
                  <Button size="small" loading={test.isPending && test.variables?.id === w.id} onClick={() => test.mutate(w)}>
                    Test
                  </Button>
                  <Button size="small" danger onClick={() => modal.confirm({ title: `Tell ${w.url} no more?`, okText: "Remove", okButtonProps: { danger: true }, onOk: () => drop.mutateAsync(w).catch(() => undefined) })}>
                    Remove
                  </Button>
                </Space>
              ),
          },
        ]}
      />
      {adding && <Add onClose={() => setAdding(false)} />}
    </>
  );
}

function Log({ of: w }: { of: Webhook }) {
  const log = useQuery({ queryKey: ["webhooks", "log", w.id], queryFn: ({ signal }) => whole((page) => api.GET("/api/v1/webhooks/{webhook}/deliveries", { signal, params: { path: { webhook: w.id }, query: page } })), refetchInterval: 5_000 });
  return (
    <Table<Delivery>
      size="small"
      rowKey={(d) => `${d.at} ${d.entry} ${d.attempt}`}
      pagination={{ pageSize: 10, hideOnSinglePage: true }}
      dataSource={log.data}
      loading={log.isPending}
      locale={nothing("Nothing was sent yet.")}
      columns={[
        { title: "Sent", width: 160, render: (_, d) => <Tooltip title={exact(d.at)}>{when(d.at)}</Tooltip> },
        { title: "Entry", width: 90, align: "right", className: "number", render: (_, d) => d.entry || "test" },
        { title: "Attempt", width: 90, align: "right", className: "number", dataIndex: "attempt" },
        { title: "Outcome", render: (_, d) => (d.problem ? `not taken: ${d.problem}` : `taken with ${d.status} after ${took(d.took_ms)}`) },
      ]}
    />
  );
}

function Add({ onClose }: { onClose: () => void }) {
  const [form] = Form.useForm<{ url: string; kinds?: string[] }>();
  const { onSettled } = useDone("webhooks");
  const add = useMutation({ mutationFn: (f: { url: string; kinds?: string[] }) => take(api.POST("/api/v1/webhooks", { body: { url: f.url.trim(), kinds: f.kinds } })), onSettled });
  if (add.data) {
    return (
      <Modal open title="It is told from now on" onCancel={onClose} onOk={onClose} cancelButtonProps={{ style: { display: "none" } }}>
        <p>Deliveries are marked with this key, which is shown only now:</p>
        <Typography.Paragraph copyable code>
          {add.data.key}
        </Typography.Paragraph>
      </Modal>
    );
  }
  return (
    <Modal open title="Add a webhook" okText="Add" onOk={() => form.submit()} confirmLoading={add.isPending} onCancel={onClose}>
      <Form form={form} layout="vertical" requiredMark={false} onFinish={(f) => add.mutate(f)}>
        <Form.Item name="url" label="Address" rules={[{ required: true, message: "Its address, please" }]}>
          <Input autoFocus spellCheck={false} placeholder="https://hooks.skerryline.example/yard" />
        </Form.Item>
        <Form.Item name="kinds" label="Kinds" extra="What the kinds of entries begin with; all when none is given.">
          <Select mode="tags" placeholder="all" options={["workspace.phase", "workspace.", "prebuild.", "rules.", "secret."].map((k) => ({ value: k, label: k }))} />
        </Form.Item>
        <ProblemNote error={add.error} />
      </Form>
    </Modal>
  );
}
