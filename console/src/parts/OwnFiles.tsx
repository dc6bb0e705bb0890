import { useMutation, useQuery } from "@tanstack/react-query";
import { Button, Checkbox, Form, Input, Space } from "antd";
import { useState } from "react";
import { profile as profileOf, putProfile } from "../service/session";
import { Ask } from "./Ask";
import { ProblemNote } from "./ProblemNote";
import { useDone } from "./useDone";
import * as say from "words/parts/OwnFiles";

type Fields = { repository: string; branch?: string; run?: string; each_start?: boolean };

/** A repository with somebody's own files, which come into each of their workspaces. */
export function OwnFiles() {
  const [asking, setAsking] = useState(false);
  const profile = useQuery(profileOf);
  const none = useMutation({ mutationFn: () => putProfile({}), ...useDone("me") });
  const f = profile.data?.files;
  return (
    <section aria-label={say.yourFiles()}>
      <h2 className="below">{say.yourFiles()}</h2>
      <p className="quiet">{say.whatTheyAre()}</p>
      <ProblemNote error={profile.error ?? none.error} />
      <Space>
        <span data-own-files={f?.repository ?? ""}>{f ? say.set(f.repository, f.branch, f.run, f.each_start) : say.none()}</span>
        <Button size="small" onClick={() => setAsking(true)}>
          {f ? say.change() : say.nameARepository()}
        </Button>
        {f && (
          <Button size="small" danger loading={none.isPending} onClick={() => none.mutate()}>
            {say.bringNone()}
          </Button>
        )}
      </Space>
      {asking && (
        <Ask<Fields> title={say.yourFiles()} ok={say.setIt()} initial={f} ask={(v) => putProfile({ files: { repository: v.repository.trim(), branch: v.branch?.trim() || undefined, run: v.run?.trim() || undefined, each_start: v.each_start } })} changes={["me"]} onClose={() => setAsking(false)}>
          <Form.Item name="repository" label={say.address()} rules={[{ required: true, message: say.theAddressPlease() }]}>
            <Input autoFocus spellCheck={false} placeholder={say.likeThis()} />
          </Form.Item>
          <Form.Item name="branch" label={say.branch()}>
            <Input spellCheck={false} placeholder={say.theDefault()} />
          </Form.Item>
          <Form.Item name="run" label={say.whatPutsThem()} extra={say.elseByConvention()}>
            <Input spellCheck={false} />
          </Form.Item>
          <Form.Item name="each_start" valuePropName="checked">
            <Checkbox>{say.atEachStart()}</Checkbox>
          </Form.Item>
        </Ask>
      )}
    </section>
  );
}
