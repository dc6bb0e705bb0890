import { CheckCircleFilled, CloseCircleFilled, LoadingOutlined, MinusCircleOutlined } from "@ant-design/icons";
import { useMutation } from "@tanstack/react-query";
import { App, Button, Checkbox, Form, Input, InputNumber, Select, Space, Table, Tooltip, theme } from "antd";
import { useState } from "react";
import { Link } from "react-router";
import type { PrebuildPlan, PrebuildRun } from "../api/client";
import { dropPlan, putPlan, runPlan } from "../service/prebuilds";
import { Ask } from "./Ask";
import { nothing } from "./Page";
import { exact, took, when } from "./time";
import { useDone } from "./useDone";

/** The newest image that serves launches from a branch. */
export function Newest({ of: p }: { of: PrebuildPlan }) {
  const { token } = theme.useToken();
  const good = p.runs.find((r) => r.serves);
  return (
    <div>
      {good ? (
        <Tooltip title={exact(good.started_at)}>
          <span style={{ color: token.colorSuccess }}>
            <CheckCircleFilled /> {p.branch}: image {good.number} of {when(good.started_at)}
          </span>
        </Tooltip>
      ) : (
        <span style={{ color: token.colorWarning }}>
          <MinusCircleOutlined /> {p.branch}: none serves yet
        </span>
      )}
    </div>
  );
}

/** One plan, with its newest runs and what it saves. */
export function Plan({ of: p, manages }: { of: PrebuildPlan; manages: boolean }) {
  const [changing, setChanging] = useState(false);
  const { modal } = App.useApp();
  const done = useDone("prebuilds");
  const run = useMutation({ mutationFn: () => runPlan(p.repository, p.branch), ...done });
  const drop = useMutation({ mutationFn: () => dropPlan(p.repository, p.branch), ...done });
  const triggers = [p.on_push && "on push", p.timetable && `by timetable ${p.timetable}${p.next_at ? `, next ${when(p.next_at)}` : ""}`, "by hand"].filter(Boolean).join("; ");
  return (
    <section aria-label={`Plan of ${p.repository}, ${p.branch}`} style={{ padding: "4px 0 12px" }}>
      <Space style={{ marginBottom: 8 }}>
        <span>
          <b>{p.branch}</b>: {triggers}; the last {p.keep} good are kept; by {p.made_by}
        </span>
        {manages && (
          <>
            <Button size="small" onClick={() => run.mutate()} loading={run.isPending}>
              Prepare now
            </Button>
            <Button size="small" onClick={() => setChanging(true)}>
              Change
            </Button>
            <Button
              size="small"
              danger
              onClick={() =>
                modal.confirm({
                  title: `Remove the plan of ${p.repository}, ${p.branch}?`,
                  content: "Its prepared images go with it; launches begin from scratch.",
                  okText: "Remove",
                  okButtonProps: { danger: true },
                  onOk: () => drop.mutateAsync().catch(() => undefined),
                })
              }
            >
              Remove
            </Button>
          </>
        )}
      </Space>
      {!!p.usual_ms && !!p.scratch_ms && (
        <p className="number" data-saves={p.scratch_ms - p.usual_ms}>
          A launch from it is usually ready in {took(p.usual_ms)}, one from scratch in {took(p.scratch_ms)}.
        </p>
      )}
      <Table<PrebuildRun>
        size="small"
        rowKey="id"
        pagination={false}
        dataSource={p.runs}
        scroll={{ y: 300 }}
        locale={nothing("No run yet.")}
        columns={[
          { title: "Run", width: 60, align: "right", className: "number", render: (_, r) => <Link to={`/prebuild-runs/${r.id}`}>{r.number}</Link> },
          { title: "Begun", width: 150, render: (_, r) => <Tooltip title={exact(r.started_at)}>{when(r.started_at)}</Tooltip> },
          { title: "Took", width: 100, align: "right", className: "number", render: (_, r) => r.ended_at && took(Date.parse(r.ended_at) - Date.parse(r.started_at)) },
          { title: "Outcome", width: 170, render: (_, r) => <Outcome of={r} /> },
          { title: "Commit", width: 110, render: (_, r) => <code>{r.commit.slice(0, 10)}</code> },
          { title: "Why", dataIndex: "reason" },
        ]}
      />
      {changing && <PutPlan repository={p.repository} plan={p} onClose={() => setChanging(false)} />}
    </section>
  );
}

function Outcome({ of: r }: { of: PrebuildRun }) {
  const { token } = theme.useToken();
  if (!r.ended_at) {
    return (
      <span data-outcome="under way">
        <LoadingOutlined /> under way
      </span>
    );
  }
  if (r.outcome === "failed") {
    return (
      <Tooltip title={r.cause}>
        <span data-outcome="failed" style={{ color: token.colorError }}>
          <CloseCircleFilled /> failed
        </span>
      </Tooltip>
    );
  }
  return (
    <span data-outcome="done" style={{ color: r.serves ? token.colorSuccess : token.colorTextSecondary }}>
      <CheckCircleFilled /> {r.serves ? "done, serves" : "done, dropped"}
    </span>
  );
}

type PlanFields = { branch?: string; on_push: boolean; timetable?: string; keep: number };

/** Makes the plan of a branch, or changes it. */
export function PutPlan({ repository, plan, onClose }: { repository: string; plan?: PrebuildPlan; onClose: () => void }) {
  return (
    <Ask<PlanFields>
      title={`Prepare images of ${repository} ahead`}
      ok={plan ? "Change the plan" : "Make the plan"}
      initial={{ branch: plan?.branch, on_push: plan?.on_push ?? true, timetable: plan?.timetable, keep: plan?.keep ?? 2 }}
      ask={(f) => putPlan(repository, { ...f, branch: f.branch?.trim() || undefined, timetable: f.timetable?.trim() || undefined })}
      changes={["prebuilds"]}
      onClose={onClose}
    >
      <Form.Item name="branch" label="Branch">
        <Input disabled={Boolean(plan)} placeholder="the default branch" spellCheck={false} />
      </Form.Item>
      <Form.Item name="on_push" valuePropName="checked" extra="Its git host must tell of pushes: an operator makes the key.">
        <Checkbox>On every push</Checkbox>
      </Form.Item>
      <Form.Item name="timetable" label="By the clock" extra="Minute, hour, day of the month, month, day of the week; in the house's time zone. Empty for not.">
        <Select
          allowClear
          showSearch
          options={[
            { value: "30 5 * * 1-5", label: "30 5 * * 1-5: on working days at 05:30" },
            { value: "0 6 * * *", label: "0 6 * * *: every day at 06:00" },
            { value: "0 */4 * * *", label: "0 */4 * * *: every four hours" },
            ...(plan?.timetable && !["30 5 * * 1-5", "0 6 * * *", "0 */4 * * *"].includes(plan.timetable) ? [{ value: plan.timetable, label: plan.timetable }] : []),
          ]}
          placeholder="not by the clock"
        />
      </Form.Item>
      <Form.Item name="keep" label="Good images to keep">
        <InputNumber min={1} max={20} />
      </Form.Item>
    </Ask>
  );
}
