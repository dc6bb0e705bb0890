import { CheckCircleFilled, CloseCircleFilled, WarningFilled } from "@ant-design/icons";
import { Button, Table, theme } from "antd";
import { useState } from "react";
import { Link } from "react-router";
import type { Preflight } from "../api/client";
import { Findings } from "./Findings";
import { GiveSecret } from "./GiveSecret";
import { money } from "words/amounts";
import { took, when } from "words/times";
import * as say from "words/parts/Ahead";

/** What a launch would come to. */
export function Ahead({ of: p }: { of: Preflight }) {
  const { token } = theme.useToken();
  const good = <CheckCircleFilled style={{ color: token.colorSuccess }} />;
  const attention = <WarningFilled style={{ color: token.colorWarning }} />;
  const over = <CloseCircleFilled style={{ color: token.colorError }} />;
  const [giving, setGiving] = useState<string>();
  return (
    <section aria-label={say.beforeTheLaunch()} data-ahead={p.repository}>
      <h2>{say.beforeTheLaunch()}</h2>
      <dl className="facts one">
        <dt>{say.makes()}</dt>
        <dd>{say.pullRequestAtBy(p.request, p.branch, <code>{p.commit.slice(0, 10)}</code>, p.definition || say.whatIsUsualHave(<Link to="/starters">{say.starters()}</Link>), p.image, p.set_up.length > 0 && say.then(p.set_up.join(", ")))}</dd>
        {p.services.length > 0 && (
          <>
            <dt>{say.services()}</dt>
            <dd>{p.services.join(", ")}</dd>
          </>
        )}
        {p.beside.length > 0 && (
          <>
            <dt>{say.besideIt()}</dt>
            <dd>{p.beside.join(", ")}</dd>
          </>
        )}
        {p.needs && (
          <>
            <dt>{say.needs()}</dt>
            <dd>{p.needs}</dd>
          </>
        )}
        <dt>{say.prepared2()}</dt>
        <dd>{p.prepared ? say.imageOfAtThe(good, p.prepared.number, when(p.prepared.made_at), p.prepared.behind) : say.fromScratch(attention, p.scratch)}</dd>
        <dt>{say.readyIn()}</dt>
        <dd className="number">{p.usual_ms ? say.usually19Of20(took(p.usual_ms), took(p.slow_ms)) : say.notKnownNobodyHas()}</dd>
        <dt>{say.costs()}</dt>
        <dd className="number">{say.anHourItsDisk(money(p.hour_micros, p.currency))}</dd>
        {p.findings.length > 0 && (
          <>
            <dt>{say.findings()}</dt>
            <dd>
              <Findings of={p.findings} />
            </dd>
          </>
        )}
        <dt>{say.secrets()}</dt>
        <dd>
          {!!p.request && say.itGetsNoneAnd(attention, p.request)}
          {!p.request && p.missing.length === 0 && say.nothingThatIsAsked(good)}
          {p.missing.map((m) => (
            <div key={m.name}>
              {say.isMissing(
                attention,
                <code>{m.name}</code>,
                m.description && `: ${m.description}`,
                <Button size="small" onClick={() => setGiving(m.name)}>
                  {say.giveIt()}
                </Button>,
              )}
            </div>
          ))}
        </dd>
      </dl>
      <Table
        size="small"
        pagination={false}
        rowKey={(l) => l.kind + l.whose}
        dataSource={p.limits}
        locale={{ emptyText: say.noLimitApplies() }}
        columns={[
          { title: say.limit(), render: (_, l) => `${l.kind}, ${l.whose}` },
          {
            title: say.usedAskedOfAllowed(),
            render: (_, l) => (
              <>
                {l.over ? over : good} <span className="number">{l.text}</span>
              </>
            ),
          },
        ]}
      />
      {p.refused && <p style={{ color: token.colorError }}>{say.itWouldBeRefused()}</p>}
      {giving && <GiveSecret name={giving} repository={p.repository} onClose={() => setGiving(undefined)} />}
    </section>
  );
}
