import { useMutation, useQuery } from "@tanstack/react-query";
import { App, Button, Checkbox, Form, Input, Space, Typography } from "antd";
import { useState } from "react";
import { dropGitKey, gitKey, putGitKey } from "../service/session";
import { useDone } from "./useDone";
import { Ask } from "./Ask";
import { ProblemNote } from "./ProblemNote";
import { when } from "words/times";
import * as say from "words/parts/GitKey";

/** The key that signs somebody in to git hosts by SSH, and their commits. */
export function GitKey() {
  const { modal } = App.useApp();
  const key = useQuery(gitKey);
  const [bringing, setBringing] = useState(false);
  const done = useDone("me");
  const put = useMutation({ mutationFn: putGitKey, ...done });
  const drop = useMutation({ mutationFn: dropGitKey, ...done });
  const k = key.data;
  const anew = () => void modal.confirm({ title: say.anotherInItsPlace(), content: say.whatHasTheOld(), okText: say.another(), onOk: () => put.mutateAsync({ new: true }).catch(() => undefined) });
  const gone = () => void modal.confirm({ title: say.removeIt(), content: say.whatHasTheOld(), okText: say.remove(), okButtonProps: { danger: true }, onOk: () => drop.mutateAsync().catch(() => undefined) });
  return (
    <section aria-label={say.yourKey()}>
      <h2 className="below">{say.yourKey()}</h2>
      <p className="quiet">{say.whatItIs()}</p>
      <ProblemNote error={key.error ?? put.error ?? drop.error} />
      {k ? (
        <>
          <Typography.Paragraph code copyable style={{ marginBottom: 4, wordBreak: "break-all" }}>
            {k.public}
          </Typography.Paragraph>
          <p className="quiet">{say.madeAt(k.fingerprint, when(k.made_at))}</p>
          <p>
            <Checkbox checked={k.signs_commits} disabled={put.isPending} onChange={(e) => put.mutate({ signs_commits: e.target.checked })}>
              {say.signAll()}
            </Checkbox>
          </p>
        </>
      ) : (
        key.isSuccess && <p>{say.none()}</p>
      )}
      <Space>
        {k ? (
          <Button size="small" onClick={anew}>
            {say.another()}
          </Button>
        ) : (
          <Button size="small" disabled={!key.isSuccess} loading={put.isPending} onClick={() => put.mutate({ new: true })}>
            {say.makeOne()}
          </Button>
        )}
        <Button size="small" disabled={!key.isSuccess} onClick={() => setBringing(true)}>
          {say.bringOne()}
        </Button>
        {k && (
          <Button size="small" danger onClick={gone}>
            {say.remove()}
          </Button>
        )}
      </Space>
      {bringing && (
        <Ask<{ private: string }> title={say.bringOne()} ok={say.takeIt()} ask={(f) => putGitKey({ private: f.private })} changes={["me"]} onClose={() => setBringing(false)}>
          <Form.Item name="private" label={say.privateHalf()} extra={say.asOpenSSH()} rules={[{ required: true, message: say.itPlease() }]}>
            <Input.TextArea autoFocus rows={6} spellCheck={false} autoComplete="off" className="code" />
          </Form.Item>
        </Ask>
      )}
    </section>
  );
}
