import { useMutation, useQuery } from "@tanstack/react-query";
import { App, Button, Form, Input, Space, Table, Typography } from "antd";
import { useState } from "react";
import { dropGitHost, gitHosts, putGitHost, type GitHost } from "../service/githosts";
import { Ask } from "./Ask";
import { nothing } from "./Page";
import { ProblemNote } from "./ProblemNote";
import { useDone } from "./useDone";
import * as say from "words/parts/GitHosts";

type Fields = { host: string; title?: string; client: string; secret?: string; authorize: string; token: string; device?: string; revoke?: string; repositories?: string; scopes?: string };

const given = (v?: string) => v?.trim() || undefined;
const places = [
  ["device", say.device],
  ["revoke", say.revoke],
  ["repositories", say.repositories],
] as const;

/** The git hosts that people connect with. */
export function GitHosts({ changes }: { changes: boolean }) {
  const { modal } = App.useApp();
  const list = useQuery(gitHosts);
  const [asked, setAsked] = useState<GitHost | "new">();
  const remove = useMutation({ mutationFn: dropGitHost, ...useDone("git-hosts") });
  const gone = (host: string) => void modal.confirm({ title: say.nobodyConnects(host), content: say.whatItLent(), okText: say.remove(), okButtonProps: { danger: true }, onOk: () => remove.mutateAsync(host).catch(() => undefined) });
  const old = asked === "new" ? undefined : asked;
  return (
    <section>
      <h2 className="below">
        {say.gitHosts()}
        {changes && (
          <Button style={{ float: "right" }} onClick={() => setAsked("new")}>
            {say.add()}
          </Button>
        )}
      </h2>
      <p className="quiet">{say.whatTheyAre()}</p>
      <ProblemNote error={list.error ?? remove.error} />
      <Table<GitHost>
        size="small"
        rowKey="host"
        pagination={false}
        loading={list.isPending}
        dataSource={list.data}
        locale={nothing(say.thereAreNone())}
        expandable={{
          expandedRowRender: (h) =>
            say.mustKnow(
              <Typography.Text code copyable>
                {h.callback}
              </Typography.Text>,
            ),
        }}
        columns={[
          { title: say.host(), dataIndex: "host" },
          { title: say.title(), dataIndex: "title" },
          { title: say.client(), dataIndex: "client" },
          { title: say.scopes(), render: (_, h) => say.scopesOf(h.scopes) },
          {
            title: "",
            align: "right",
            render: (_, h) =>
              changes && (
                <Space>
                  <Button size="small" onClick={() => setAsked(h)}>
                    {say.change()}
                  </Button>
                  <Button size="small" danger onClick={() => gone(h.host)}>
                    {say.remove()}
                  </Button>
                </Space>
              ),
          },
        ]}
      />
      {asked && (
        <Ask<Fields>
          title={old ? old.title : say.add()}
          ok={say.putIt()}
          initial={old && { ...old, scopes: old.scopes.join(" ") }}
          ask={(f) =>
            putGitHost(f.host.trim(), {
              title: given(f.title),
              client: f.client.trim(),
              secret: given(f.secret),
              authorize: f.authorize.trim(),
              token: f.token.trim(),
              device: given(f.device),
              revoke: given(f.revoke),
              repositories: given(f.repositories),
              scopes: (f.scopes ?? "").split(/\s+/).filter(Boolean),
              member: old?.member,
              username: old?.username,
            })
          }
          changes={["git-hosts"]}
          onClose={() => setAsked(undefined)}
        >
          <Form.Item name="host" label={say.host()} extra={say.asInAddresses()} rules={[{ required: true, message: say.please() }]}>
            <Input autoFocus={!old} disabled={!!old} spellCheck={false} />
          </Form.Item>
          <Form.Item name="title" label={say.title()}>
            <Input />
          </Form.Item>
          <Form.Item name="client" label={say.client()} extra={say.whatItKnows()} rules={[{ required: true, message: say.please() }]}>
            <Input spellCheck={false} autoComplete="off" />
          </Form.Item>
          <Form.Item name="secret" label={say.secret()} extra={say.leftOut()}>
            <Input.Password autoComplete="new-password" />
          </Form.Item>
          <Form.Item name="authorize" label={say.authorize()} rules={[{ required: true, message: say.please() }]}>
            <Input spellCheck={false} />
          </Form.Item>
          <Form.Item name="token" label={say.token()} rules={[{ required: true, message: say.please() }]}>
            <Input spellCheck={false} />
          </Form.Item>
          {places.map(([name, label]) => (
            <Form.Item key={name} name={name} label={label()} extra={say.ifItHas()}>
              <Input spellCheck={false} />
            </Form.Item>
          ))}
          <Form.Item name="scopes" label={say.scopes()} extra={say.asLittle()}>
            <Input spellCheck={false} />
          </Form.Item>
        </Ask>
      )}
    </section>
  );
}
