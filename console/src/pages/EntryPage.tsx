import { useQuery } from "@tanstack/react-query";
import { Button, Form, Input, Spin } from "antd";
import { lazy, Suspense, useState } from "react";
import { Link, useParams } from "react-router";
import { nameOf } from "../api/client";
import { PageHead } from "../parts/Page";
import { ProblemNote } from "../parts/ProblemNote";
import { workspace as oneWorkspace } from "../service/workspaces";
import * as say from "words/pages/EntryPage";

const TerminalView = lazy(() => import("../parts/TerminalView").then((m) => ({ default: m.TerminalView })));

/** An operator's way into somebody else's workspace: with a reason, which its owner reads. It is asked for each time. */
export function EntryPage() {
  const { name = "" } = useParams();
  const workspace = useQuery(oneWorkspace(name));
  const [reason, setReason] = useState<string>();
  const w = workspace.data;
  if (!w) return workspace.error ? <ProblemNote error={workspace.error} /> : <Spin />;
  return (
    <>
      <PageHead title={say.comeInto(w.name, w.owner)}>
        <Link className="quiet" to={`/workspaces/${nameOf(w)}`}>
          {say.backToIt()}
        </Link>
      </PageHead>
      {reason === undefined ? (
        <Form<{ reason: string }> layout="vertical" requiredMark={false} style={{ maxWidth: 640 }} onFinish={(f) => setReason(f.reason.trim())}>
          <p className="quiet">{say.whatYouGet(w.owner)}</p>
          <Form.Item name="reason" label={say.why()} extra={say.isReadBy(w.owner)} rules={[{ required: true, whitespace: true, message: say.sayWhy() }]}>
            <Input autoFocus maxLength={300} autoComplete="off" placeholder={say.herBuildHangs()} />
          </Form.Item>
          <Button type="primary" htmlType="submit">
            {say.comeIn()}
          </Button>
        </Form>
      ) : (
        <>
          <p className="quiet" role="status">
            {say.youCameIn(w.owner, reason)}
          </p>
          <Suspense fallback={null}>
            <TerminalView workspace={nameOf(w)} reason={reason} />
          </Suspense>
        </>
      )}
    </>
  );
}
