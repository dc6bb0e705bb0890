import { CheckCircleFilled, CloseCircleFilled, DownOutlined, PauseCircleFilled } from "@ant-design/icons";
import { useMutation, useQuery } from "@tanstack/react-query";
import { App, Button, Dropdown, Form, Input, InputNumber, Modal, Segmented, Select, Space, Table, Tooltip, Typography, theme } from "antd";
import { useState } from "react";
import type { Person } from "../api/client";
import { Ask } from "../parts/Ask";
import { nothing, PageHead } from "../parts/Page";
import { ProblemNote } from "../parts/ProblemNote";
import { exact, took, when } from "../parts/time";
import { useDone } from "../parts/useDone";
import { add, change, deliveries, drop, newKey, replay, test as tryIt, webhooks, type Delivery, type Webhook } from "../service/webhooks";

type Asked = { what: "change" | "replay"; of: Webhook };

/** Addresses outside that are told of journal entries. */
export function WebhooksPage({ person }: { person: Person }) {
  const { modal } = App.useApp();
  const [adding, setAdding] = useState(false);
  const [asked, setAsked] = useState<Asked>();
  const [key, setKey] = useState<string>();
  const changes = person.role === "operator";
  const hooks = useQuery(webhooks);
  const done = useDone("webhooks");
  const test = useMutation({
    mutationFn: (w: Webhook) => tryIt(w.id),
    ...done,
    onSuccess: (d) => void (d.problem ? modal.error({ title: "The test was not taken", content: d.problem }) : modal.success({ title: `The test was taken with ${d.status} after ${took(d.took_ms)}` })),
  });
  const remove = useMutation({ mutationFn: (w: Webhook) => drop(w.id), ...done });
  const pause = useMutation({ mutationFn: (w: Webhook) => change(w.id, { paused: !w.paused_at }), ...done });
  const fresh = useMutation({ mutationFn: (w: Webhook) => newKey(w.id), ...done, onSuccess: (k) => setKey(k.key) });
  const more = (w: Webhook) => [
    { key: "change", label: "Change…", onClick: () => setAsked({ what: "change", of: w }) },
    { key: "replay", label: "Tell again from…", onClick: () => setAsked({ what: "replay", of: w }) },
    {
      key: "key",
      label: "Another key",
      onClick: () => void modal.confirm({ title: `Another key for ${w.url}?`, content: "Deliveries are marked with it at once. Where none is to be refused meanwhile, pause it before, and go on when its receiver has the key.", okText: "Make it", onOk: () => fresh.mutateAsync(w).catch(() => undefined) }),
    },
    { key: "remove", label: "Remove", danger: true, onClick: () => void modal.confirm({ title: `Tell ${w.url} no more?`, okText: "Remove", okButtonProps: { danger: true }, onOk: () => remove.mutateAsync(w).catch(() => undefined) }) },
  ];
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
          { title: "State", render: (_, w) => <How of={w} /> },
          { title: "Added", render: (_, w) => `${when(w.created_at)} by ${w.made_by}` },
          {
            title: "",
            align: "right",
            width: 230,
            render: (_, w) =>
              changes && (
                <Space>
                  <Button size="small" loading={test.isPending && test.variables?.id === w.id} onClick={() => test.mutate(w)}>
                    Test
                  </Button>
                  <Button size="small" loading={pause.isPending && pause.variables?.id === w.id} onClick={() => pause.mutate(w)}>
                    {w.paused_at ? "Go on" : "Pause"}
                  </Button>
                  <Dropdown trigger={["click"]} menu={{ items: more(w) }}>
                    <Button size="small">
                      More <DownOutlined />
                    </Button>
                  </Dropdown>
                </Space>
              ),
          },
        ]}
      />
      {adding && (
        <Ask<Fields, { key: string }>
          title="Add a webhook"
          ok="Add"
          ask={(f) => add({ url: f.url.trim(), kinds: f.kinds })}
          changes={["webhooks"]}
          onClose={() => setAdding(false)}
          onDone={(made) => {
            setAdding(false);
            setKey(made.key);
          }}
        >
          <WhereAndWhat />
        </Ask>
      )}
      {asked?.what === "change" && (
        <Ask<Fields> title="Change the webhook" ok="Change" initial={asked.of} ask={(f) => change(asked.of.id, { url: f.url.trim(), kinds: f.kinds ?? [] })} changes={["webhooks"]} onClose={() => setAsked(undefined)}>
          <WhereAndWhat />
        </Ask>
      )}
      {asked?.what === "replay" && (
        <Ask<{ from: number }> title={`Tell ${asked.of.url} again`} ok="Tell again" initial={{ from: Math.max(1, asked.of.cursor) }} ask={(f) => replay(asked.of.id, f.from)} changes={["webhooks"]} onClose={() => setAsked(undefined)}>
          <Form.Item name="from" label="From entry" extra={`It was told up to entry ${asked.of.cursor}. What comes twice has the same id; a later number passes over what lies between.`} rules={[{ required: true, message: "Its number, please" }]}>
            <InputNumber autoFocus min={1} precision={0} />
          </Form.Item>
        </Ask>
      )}
      {key && (
        <Modal open title="The key of its deliveries" onCancel={() => setKey(undefined)} onOk={() => setKey(undefined)} cancelButtonProps={{ style: { display: "none" } }}>
          <p>Deliveries are marked with this key, which is shown only now:</p>
          <Typography.Paragraph copyable code>
            {key}
          </Typography.Paragraph>
        </Modal>
      )}
    </>
  );
}

type Fields = { url: string; kinds?: string[] };

function WhereAndWhat() {
  return (
    <>
      <Form.Item name="url" label="Address" rules={[{ required: true, message: "Its address, please" }]}>
        <Input autoFocus spellCheck={false} placeholder="https://hooks.skerryline.example/yard" />
      </Form.Item>
      <Form.Item name="kinds" label="Kinds" extra="What the kinds of entries begin with; all when none is given.">
        <Select mode="tags" placeholder="all" options={["workspace.phase", "workspace.", "prebuild.", "rules.", "secret."].map((k) => ({ value: k, label: k }))} />
      </Form.Item>
    </>
  );
}

function How({ of: w }: { of: Webhook }) {
  const { token } = theme.useToken();
  if (w.paused_at) {
    return (
      <Tooltip title={`since ${exact(w.paused_at)}; what comes meanwhile is sent after it`}>
        <span data-hook="paused" className="quiet">
          <PauseCircleFilled /> paused
        </span>
      </Tooltip>
    );
  }
  if (w.failing_since) {
    return (
      <Tooltip title={`since ${exact(w.failing_since)}`}>
        <span data-hook="failing" style={{ color: token.colorError }}>
          <CloseCircleFilled /> {w.problem}
        </span>
      </Tooltip>
    );
  }
  return (
    <span data-hook="well" style={{ color: token.colorSuccess }}>
      <CheckCircleFilled /> well
    </span>
  );
}

function Log({ of: w }: { of: Webhook }) {
  const [only, setOnly] = useState<"all" | "not taken">("all");
  const log = useQuery(deliveries(w.id));
  return (
    <>
      <Segmented size="small" style={{ marginBottom: 6 }} value={only} options={["all", "not taken"]} onChange={setOnly} aria-label="Outcome" />
      <Table<Delivery>
        size="small"
        rowKey={(d) => `${d.at} ${d.entry} ${d.attempt}`}
        pagination={{ pageSize: 10, hideOnSinglePage: true }}
        dataSource={log.data?.filter((d) => only === "all" || d.problem)}
        loading={log.isPending}
        locale={nothing(only === "all" ? "Nothing was sent yet." : "Everything was taken.")}
        columns={[
          { title: "Sent", width: 160, render: (_, d) => <Tooltip title={exact(d.at)}>{when(d.at)}</Tooltip> },
          { title: "Entry", width: 90, align: "right", className: "number", render: (_, d) => d.entry || "test" },
          { title: "Attempt", width: 90, align: "right", className: "number", dataIndex: "attempt" },
          { title: "Outcome", render: (_, d) => (d.problem ? `not taken: ${d.problem}` : `taken with ${d.status} after ${took(d.took_ms)}`) },
        ]}
      />
    </>
  );
}
