import { CheckCircleFilled, CloseCircleFilled, LoadingOutlined, MinusCircleOutlined } from "@ant-design/icons";
import { useMutation } from "@tanstack/react-query";
import { App, Button, Checkbox, Form, Input, InputNumber, Select, Space, Table, Tooltip, theme } from "antd";
import { useState } from "react";
import { Link } from "react-router";
import type { PrebuildPlan, PrebuildRun } from "../api/client";
import { dropPlan, putPlan, runPlan } from "../service/prebuilds";
import { Ask } from "./Ask";
import { nothing } from "./Page";
import { exact, took, when } from "words/times";
import { useDone } from "./useDone";
import * as say from "words/parts/Prebuilds";

/** The newest image that serves launches from a branch. */
export function Newest({ of: p }: { of: PrebuildPlan }) {
  const { token } = theme.useToken();
  const good = p.runs.find((r) => r.serves);
  return (
    <div>
      {good ? (
        <Tooltip title={exact(good.started_at)}>
          <span style={{ color: token.colorSuccess }}>
            <CheckCircleFilled /> {say.imageOf(p.branch, good.number, when(good.started_at))}
          </span>
        </Tooltip>
      ) : (
        <span style={{ color: token.colorWarning }}>
          <MinusCircleOutlined /> {say.noneServesYet(p.branch)}
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
  const triggers = [p.on_push && say.onPush(), p.timetable && say.byTimetableNext(p.timetable, p.next_at && when(p.next_at)), say.byHand()].filter(Boolean).join("; ");
  return (
    <section aria-label={say.planOf(p.repository, p.branch)} style={{ padding: "4px 0 12px" }}>
      <Space style={{ marginBottom: 8 }}>
        <span>{say.theLastGoodAre(<b>{p.branch}</b>, triggers, p.keep, p.made_by)}</span>
        {manages && (
          <>
            <Button size="small" onClick={() => run.mutate()} loading={run.isPending}>
              {say.prepareNow()}
            </Button>
            <Button size="small" onClick={() => setChanging(true)}>
              {say.change()}
            </Button>
            <Button
              size="small"
              danger
              onClick={() =>
                modal.confirm({
                  title: say.removeThePlanOf(p.repository, p.branch),
                  content: say.itsPreparedImagesGo(),
                  okText: say.remove(),
                  okButtonProps: { danger: true },
                  onOk: () => drop.mutateAsync().catch(() => undefined),
                })
              }
            >
              {say.remove()}
            </Button>
          </>
        )}
      </Space>
      {!!p.usual_ms && !!p.scratch_ms && (
        <p className="number" data-saves={p.scratch_ms - p.usual_ms}>
          {say.aLaunchFromIt(took(p.usual_ms), took(p.scratch_ms))}
        </p>
      )}
      <Table<PrebuildRun>
        size="small"
        rowKey="id"
        pagination={false}
        dataSource={p.runs}
        scroll={{ y: 300 }}
        locale={nothing(say.noRunYet())}
        columns={[
          { title: say.run(), width: 60, align: "right", className: "number", render: (_, r) => <Link to={`/prebuild-runs/${r.id}`}>{r.number}</Link> },
          { title: say.begun(), width: 150, render: (_, r) => <Tooltip title={exact(r.started_at)}>{when(r.started_at)}</Tooltip> },
          { title: say.took(), width: 100, align: "right", className: "number", render: (_, r) => r.ended_at && took(Date.parse(r.ended_at) - Date.parse(r.started_at)) },
          { title: say.outcome(), width: 170, render: (_, r) => <Outcome of={r} /> },
          { title: say.commit(), width: 110, render: (_, r) => <code>{r.commit.slice(0, 10)}</code> },
          { title: say.why(), dataIndex: "reason" },
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
        <LoadingOutlined /> {say.underWay()}
      </span>
    );
  }
  if (r.outcome === "failed") {
    return (
      <Tooltip title={r.cause}>
        <span data-outcome="failed" style={{ color: token.colorError }}>
          <CloseCircleFilled /> {say.failed()}
        </span>
      </Tooltip>
    );
  }
  return (
    <span data-outcome="done" style={{ color: r.serves ? token.colorSuccess : token.colorTextSecondary }}>
      <CheckCircleFilled /> {r.serves ? say.doneServes() : say.doneDropped()}
    </span>
  );
}

type PlanFields = { branch?: string; on_push: boolean; timetable?: string; keep: number };

/** Makes the plan of a branch, or changes it. */
export function PutPlan({ repository, plan, onClose }: { repository: string; plan?: PrebuildPlan; onClose: () => void }) {
  return (
    <Ask<PlanFields>
      title={say.prepareImagesOfAhead(repository)}
      ok={plan ? say.changeThePlan() : say.makeThePlan()}
      initial={{ branch: plan?.branch, on_push: plan?.on_push ?? true, timetable: plan?.timetable, keep: plan?.keep ?? 2 }}
      ask={(f) => putPlan(repository, { ...f, branch: f.branch?.trim() || undefined, timetable: f.timetable?.trim() || undefined })}
      changes={["prebuilds"]}
      onClose={onClose}
    >
      <Form.Item name="branch" label={say.branch()}>
        <Input disabled={Boolean(plan)} placeholder={say.theDefaultBranch()} spellCheck={false} />
      </Form.Item>
      <Form.Item name="on_push" valuePropName="checked" extra={say.itsGitHostMust()}>
        <Checkbox>{say.onEveryPush()}</Checkbox>
      </Form.Item>
      <Form.Item name="timetable" label={say.byTheClock()} extra={say.minuteHourDayOf()}>
        <Select
          allowClear
          showSearch
          options={[
            { value: "30 5 * * 1-5", label: say.n30515() },
            { value: "0 6 * * *", label: say.n06EveryDay() },
            { value: "0 */4 * * *", label: say.n04EveryFour() },
            ...(plan?.timetable && !["30 5 * * 1-5", "0 6 * * *", "0 */4 * * *"].includes(plan.timetable) ? [{ value: plan.timetable, label: plan.timetable }] : []),
          ]}
          placeholder={say.notByTheClock()}
        />
      </Form.Item>
      <Form.Item name="keep" label={say.goodImagesToKeep()}>
        <InputNumber min={1} max={20} />
      </Form.Item>
    </Ask>
  );
}
