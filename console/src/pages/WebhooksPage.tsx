import { CheckCircleFilled, CloseCircleFilled, DownOutlined, PauseCircleFilled } from "@ant-design/icons";
import { useMutation, useQuery } from "@tanstack/react-query";
import { App, Button, Dropdown, Form, Input, InputNumber, Modal, Segmented, Select, Space, Table, Tooltip, Typography, theme } from "antd";
import { useState } from "react";
import { type Me, may } from "../api/client";
import { Ask } from "../parts/Ask";
import { nothing, PageHead } from "../parts/Page";
import { ProblemNote } from "../parts/ProblemNote";
import { exact, took, when } from "words/times";
import { useDone } from "../parts/useDone";
import { add, change, deliveries, drop, newKey, replay, test as tryIt, webhooks, type Delivery, type Webhook } from "../service/webhooks";
import * as say from "words/pages/WebhooksPage";

type Asked = { what: "change" | "replay"; of: Webhook };

/** Addresses outside that are told of journal entries. */
export function WebhooksPage({ person }: { person: Me }) {
  const { modal } = App.useApp();
  const [adding, setAdding] = useState(false);
  const [asked, setAsked] = useState<Asked>();
  const [key, setKey] = useState<string>();
  const changes = may(person, "webhook.change");
  const hooks = useQuery(webhooks);
  const done = useDone("webhooks");
  const test = useMutation({
    mutationFn: (w: Webhook) => tryIt(w.id),
    ...done,
    onSuccess: (d) => void (d.problem ? modal.error({ title: say.theTestWasNot(), content: d.problem }) : modal.success({ title: say.theTestWasTaken(d.status, took(d.took_ms)) })),
  });
  const remove = useMutation({ mutationFn: (w: Webhook) => drop(w.id), ...done });
  const pause = useMutation({ mutationFn: (w: Webhook) => change(w.id, { paused: !w.paused_at }), ...done });
  const fresh = useMutation({ mutationFn: (w: Webhook) => newKey(w.id), ...done, onSuccess: (k) => setKey(k.key) });
  const more = (w: Webhook) => [
    { key: "change", label: say.change(), onClick: () => setAsked({ what: "change", of: w }) },
    { key: "replay", label: say.tellAgainFrom(), onClick: () => setAsked({ what: "replay", of: w }) },
    {
      key: "key",
      label: say.anotherKey(),
      onClick: () => void modal.confirm({ title: say.anotherKeyFor(w.url), content: say.deliveriesAreMarkedWith(), okText: say.makeIt(), onOk: () => fresh.mutateAsync(w).catch(() => undefined) }),
    },
    { key: "remove", label: say.remove(), danger: true, onClick: () => void modal.confirm({ title: say.tellNoMore(w.url), okText: say.remove(), okButtonProps: { danger: true }, onOk: () => remove.mutateAsync(w).catch(() => undefined) }) },
  ];
  return (
    <>
      <PageHead
        title={say.webhooks()}
        action={
          changes && (
            <Button type="primary" onClick={() => setAdding(true)}>
              {say.addAWebhook()}
            </Button>
          )
        }
      />
      <p className="quiet">{say.eachIsToldOf()}</p>
      <ProblemNote error={hooks.error} />
      <Table<Webhook>
        size="small"
        rowKey="id"
        pagination={false}
        loading={hooks.isPending}
        dataSource={hooks.data}
        locale={nothing(say.nobodyOutsideIsTold())}
        expandable={{ expandedRowRender: (w) => <Log of={w} /> }}
        columns={[
          { title: say.address(), dataIndex: "url", ellipsis: true },
          { title: say.kinds(), render: (_, w) => w.kinds.join(", ") || say.all() },
          { title: say.toldUpTo(), dataIndex: "cursor", align: "right", className: "number", width: 110 },
          { title: say.state(), render: (_, w) => <How of={w} /> },
          { title: say.added(), render: (_, w) => say.by(when(w.created_at), w.made_by) },
          {
            title: "",
            align: "right",
            width: 230,
            render: (_, w) =>
              changes && (
                <Space>
                  <Button size="small" loading={test.isPending && test.variables?.id === w.id} onClick={() => test.mutate(w)}>
                    {say.test()}
                  </Button>
                  <Button size="small" loading={pause.isPending && pause.variables?.id === w.id} onClick={() => pause.mutate(w)}>
                    {w.paused_at ? say.goOn() : say.pause()}
                  </Button>
                  <Dropdown trigger={["click"]} menu={{ items: more(w) }}>
                    <Button size="small">{say.more(<DownOutlined />)}</Button>
                  </Dropdown>
                </Space>
              ),
          },
        ]}
      />
      {adding && (
        <Ask<Fields, { key: string }>
          title={say.addAWebhook()}
          ok={say.add()}
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
        <Ask<Fields> title={say.changeTheWebhook()} ok={say.change2()} initial={asked.of} ask={(f) => change(asked.of.id, { url: f.url.trim(), kinds: f.kinds ?? [] })} changes={["webhooks"]} onClose={() => setAsked(undefined)}>
          <WhereAndWhat />
        </Ask>
      )}
      {asked?.what === "replay" && (
        <Ask<{ from: number }> title={say.tellAgainOfUrl(asked.of.url)} ok={say.tellAgain()} initial={{ from: Math.max(1, asked.of.cursor) }} ask={(f) => replay(asked.of.id, f.from)} changes={["webhooks"]} onClose={() => setAsked(undefined)}>
          <Form.Item name="from" label={say.fromEntry()} extra={say.itWasToldUp(asked.of.cursor)} rules={[{ required: true, message: say.itsNumberPlease() }]}>
            <InputNumber autoFocus min={1} precision={0} />
          </Form.Item>
        </Ask>
      )}
      {key && (
        <Modal open title={say.theKeyOfIts()} onCancel={() => setKey(undefined)} onOk={() => setKey(undefined)} cancelButtonProps={{ style: { display: "none" } }}>
          <p>{say.deliveriesAreMarkedWithThis()}</p>
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
      <Form.Item name="url" label={say.address()} rules={[{ required: true, message: say.itsAddressPlease() }]}>
        <Input autoFocus spellCheck={false} placeholder={say.httpsHooksSkerrylineExample()} />
      </Form.Item>
      <Form.Item name="kinds" label={say.kinds()} extra={say.whatTheKindsOf()}>
        <Select mode="tags" placeholder={say.all()} options={["workspace.phase", "workspace.", "prebuild.", "rules.", "secret."].map((k) => ({ value: k, label: k }))} />
      </Form.Item>
    </>
  );
}

function How({ of: w }: { of: Webhook }) {
  const { token } = theme.useToken();
  if (w.paused_at) {
    return (
      <Tooltip title={say.sinceWhatComesMeanwhile(exact(w.paused_at))}>
        <span data-hook="paused" className="quiet">
          <PauseCircleFilled /> {say.paused()}
        </span>
      </Tooltip>
    );
  }
  if (w.failing_since) {
    return (
      <Tooltip title={say.since(exact(w.failing_since))}>
        <span data-hook="failing" style={{ color: token.colorError }}>
          <CloseCircleFilled /> {w.problem}
        </span>
      </Tooltip>
    );
  }
  return (
    <span data-hook="well" style={{ color: token.colorSuccess }}>
      <CheckCircleFilled /> {say.well()}
    </span>
  );
}

function Log({ of: w }: { of: Webhook }) {
  const [only, setOnly] = useState<"all" | "not taken">("all");
  const log = useQuery(deliveries(w.id));
  return (
    <>
      <Segmented
        size="small"
        style={{ marginBottom: 6 }}
        value={only}
        options={[
          { value: "all", label: say.all() },
          { value: "not taken", label: say.notTaken() },
        ]}
        onChange={setOnly}
        aria-label={say.outcome()}
      />
      <Table<Delivery>
        size="small"
        rowKey={(d) => `${d.at} ${d.entry} ${d.attempt}`}
        pagination={{ pageSize: 10, hideOnSinglePage: true }}
        dataSource={log.data?.filter((d) => only === "all" || d.problem)}
        loading={log.isPending}
        locale={nothing(only === "all" ? say.nothingWasSentYet() : say.everythingWasTaken())}
        columns={[
          { title: say.sent(), width: 160, render: (_, d) => <Tooltip title={exact(d.at)}>{when(d.at)}</Tooltip> },
          { title: say.entry(), width: 90, align: "right", className: "number", render: (_, d) => d.entry || "test" },
          { title: say.attempt(), width: 90, align: "right", className: "number", dataIndex: "attempt" },
          { title: say.outcome(), render: (_, d) => (d.problem ? say.notTakenOfProblem(d.problem) : say.takenWithAfter(d.status, took(d.took_ms))) },
        ]}
      />
    </>
  );
}
