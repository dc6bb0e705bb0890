import { useMutation, useQuery } from "@tanstack/react-query";
import { Button, Form, Input, InputNumber, Space, Table, Tooltip } from "antd";
import { useState } from "react";
import { Link } from "react-router";
import { type Me, may } from "../api/client";
import type { components } from "../api/schema";
import { AskMany } from "../parts/AskMany";
import { nothing, PageHead } from "../parts/Page";
import { Ask } from "../parts/Ask";
import { ProblemNote } from "../parts/ProblemNote";
import { useAddress } from "../parts/search";
import { exact, when } from "words/times";
import { useDone } from "../parts/useDone";
import { again as againOf, attention, cause as causeOf, quiet as quietIt, whoHave } from "../service/attention";
import * as say from "words/pages/AttentionPage";

type Attention = components["schemas"]["Attention"];

/** A cause in a line. */
function what(v: Attention) {
  const of = v.of === "workspace" ? v.kind : `${v.of} ${v.kind}`;
  return `${of}${v.step ? ` at “${v.step}”` : ""}`;
}

/** What needs somebody, grouped by cause: what holds up most people for longest first. */
export function AttentionPage({ person }: { person: Me }) {
  const [get, set] = useAddress();
  const list = useQuery(attention);
  const open = get("cause");
  return (
    <>
      <PageHead title={say.attention()}>
        <span className="quiet">{say.whatNeedsSomebodyBy()}</span>
      </PageHead>
      <ProblemNote error={list.error} />
      <Table<Attention>
        size="small"
        rowKey="id"
        pagination={{ hideOnSinglePage: true, pageSize: 50 }}
        loading={list.isPending}
        dataSource={list.data}
        locale={nothing(say.nothingNeedsAnybody())}
        rowClassName={(v) => (v.quiet ? "quiet" : "")}
        expandable={{ expandedRowKeys: open ? [open] : [], onExpand: (yes, v) => set({ cause: yes ? v.id : undefined }), expandRowByClick: true, expandedRowRender: (v) => <Cause of={v} person={person} /> }}
        columns={[
          {
            title: say.cause(),
            render: (_, v) => (
              <>
                <strong>{what(v)}</strong>
                <div className="cause">{v.cause}</div>
                {v.quiet && <div>{say.quietUntilBy(when(v.quiet.until), v.quiet.by, v.quiet.reason)}</div>}
              </>
            ),
          },
          {
            title: say.since(),
            width: 120,
            render: (_, v) => (
              <Tooltip title={exact(v.since)}>
                <span className="number">{when(v.since)}</span>
              </Tooltip>
            ),
          },
          { title: say.haveIt(), width: 90, align: "right", className: "number", dataIndex: "count" },
          { title: say.peopleWait(), width: 110, align: "right", className: "number", render: (_, v) => (v.people > 0 ? v.people : <span className="quiet">{say.nobody()}</span>) },
        ]}
      />
    </>
  );
}

function Cause({ of, person }: { of: Attention; person: Me }) {
  const [quieting, setQuieting] = useState(false);
  const cause = useQuery(causeOf(of));
  const has = useQuery(whoHave(of, may(person, "workspace.see", "team", "other")));
  const done = useDone("attention");
  const again = useMutation({ mutationFn: () => againOf(of.id), ...done });
  const v = cause.data;
  return (
    <>
      <ProblemNote error={cause.error ?? has.error} />
      {v && v.lines.length > 0 && (
        <>
          <h3>{say.whatTheirLogsHave()}</h3>
          <pre className="log">{v.lines.join("\n")}</pre>
        </>
      )}
      {v && v.before.length > 0 && (
        <>
          <h3>{say.whatWasChangedIn()}</h3>
          <ul>
            {v.before.map((e) => (
              <li key={e.number}>{say.by(<span className="number">{when(e.at)}</span>, <Link to={`/journal?kind=${e.kind}`}>{e.kind}</Link>, e.actor_name)}</li>
            ))}
          </ul>
        </>
      )}
      <h3>{say.whatHasIt()}</h3>
      <ul className="cases">
        {(v?.cases ?? []).slice(0, 60).map((c) => (
          <li key={c.name}>
            {of.of === "workspace" ? <Link to={`/workspaces/${c.name}`}>{c.name}</Link> : c.name} <span className="quiet">{say.sinceOfSince(when(c.since))}</span>
          </li>
        ))}
      </ul>
      {(v?.cases.length ?? 0) > 60 && <p className="quiet">{say.andMore((v?.cases.length ?? 0) - 60)}</p>}
      <Space wrap>
        <AskMany chosen={has.data ?? []} onDone={() => void done.onSettled()} />
        {may(person, "attention.quiet") &&
          (of.quiet ? (
            <Button loading={again.isPending} onClick={() => again.mutate()}>
              {say.itNeedsSomebodyAgain()}
            </Button>
          ) : (
            <Button onClick={() => setQuieting(true)}>{say.quietForATime()}</Button>
          ))}
      </Space>
      {quieting && <QuietFor of={of} close={() => setQuieting(false)} />}
    </>
  );
}

function QuietFor({ of, close }: { of: Attention; close: () => void }) {
  return (
    <Ask<{ hours: number; reason: string }> title={say.itNeedsNobodyFor()} ok={say.quiet()} initial={{ hours: 2 }} ask={(f) => quietIt(of.id, Math.round(f.hours * 3600), f.reason)} changes={["attention"]} onClose={close}>
      <Form.Item name="hours" label={say.forHowManyHours()} rules={[{ required: true, message: say.sayForHowLong() }]}>
        <InputNumber min={0.1} max={720} />
      </Form.Item>
      <Form.Item name="reason" label={say.why()} rules={[{ required: true, message: say.sayWhy() }]}>
        <Input autoFocus maxLength={200} />
      </Form.Item>
    </Ask>
  );
}
