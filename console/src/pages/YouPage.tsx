import { useMutation, useQuery } from "@tanstack/react-query";
import { App, Button, Form, Input, InputNumber, Modal, Table, Tooltip, Typography } from "antd";
import { useState } from "react";
import { api, take, type Person, type Token, whole } from "../api/client";
import { PageHead, nothing } from "../parts/Page";
import { ProblemNote } from "../parts/ProblemNote";
import { exact, when } from "../parts/time";
import { useDone } from "../parts/useDone";

/** What one is signed in with, and tokens for programs. */
export function YouPage({ person }: { person: Person }) {
  const [making, setMaking] = useState(false);
  const [changing, setChanging] = useState(false);
  const tokens = useQuery({ queryKey: ["tokens"], queryFn: ({ signal }) => whole((page) => api.GET("/api/v1/tokens", { signal, params: { query: page } })) });
  const done = useDone("tokens", "me");
  const end = useMutation({ mutationFn: (id: string) => take(api.DELETE("/api/v1/tokens/{id}", { params: { path: { id } } })), ...done });
  return (
    <>
      <PageHead
        title={person.full_name}
        action={
          <>
            <Button style={{ marginRight: 8 }} onClick={() => setChanging(true)}>
              Change password
            </Button>
            <Button type="primary" onClick={() => setMaking(true)}>
              Make a token
            </Button>
          </>
        }
      >
        <span className="quiet">
          {person.name}, {person.email}, {person.role}
          {person.team && `, team ${person.team}`}
        </span>
      </PageHead>
      <ProblemNote error={tokens.error} />
      <Table<Token>
        size="small"
        rowKey="id"
        pagination={false}
        loading={tokens.isPending}
        dataSource={tokens.data}
        columns={[
          { title: "Signed in by", render: (_, t) => (t.door === "token" ? `token “${t.name}”` : t.door === "console" ? "the console" : "the command line") + (t.current ? ", here" : "") },
          { title: "Since", render: (_, t) => <Tooltip title={exact(t.created_at)}>{when(t.created_at)}</Tooltip> },
          { title: "Until", render: (_, t) => <Tooltip title={exact(t.expires_at)}>{when(t.expires_at)}</Tooltip> },
          { title: "Last used", render: (_, t) => (t.last_used_at ? <Tooltip title={`${exact(t.last_used_at)}, to the nearest ten minutes`}>{when(t.last_used_at)}</Tooltip> : "never") },
          {
            title: "",
            align: "right",
            render: (_, t) =>
              !t.current && (
                <Button size="small" danger onClick={() => end.mutate(t.id)}>
                  End
                </Button>
              ),
          },
        ]}
      />
      <Credentials />
      {changing && <ChangePassword onClose={() => setChanging(false)} />}
      {making && <MakeToken onClose={() => setMaking(false)} />}
    </>
  );
}

/** What one signs in to git hosts with; the secret itself is never shown. */
function Credentials() {
  const { modal } = App.useApp();
  const known = useQuery({ queryKey: ["credentials"], queryFn: ({ signal }) => whole((page) => api.GET("/api/v1/git-credentials", { signal, params: { query: page } })) });
  const remove = useMutation({ mutationFn: (host: string) => take(api.DELETE("/api/v1/git-credentials/{host}", { params: { path: { host } } })), ...useDone("credentials") });
  return (
    <>
      <h2 className="below">Git hosts</h2>
      <ProblemNote error={known.error} />
      <Table
        size="small"
        rowKey="host"
        pagination={false}
        loading={known.isPending}
        dataSource={known.data}
        locale={nothing("You have no credential for a git host. Give one with: yardbench credential put HOST")}
        columns={[
          { title: "Host", dataIndex: "host" },
          { title: "User name", dataIndex: "username" },
          { title: "Set", render: (_, c) => <Tooltip title={exact(c.updated_at)}>{when(c.updated_at)}</Tooltip> },
          {
            title: "",
            align: "right",
            render: (_, c) => (
              <Button
                size="small"
                danger
                aria-label={`Remove the credential for ${c.host}`}
                onClick={() =>
                  modal.confirm({
                    title: `Remove your credential for ${c.host}?`,
                    content: "Launches from it are refused, and pushes from your workspaces, until you give another.",
                    okText: "Remove",
                    onOk: () => remove.mutateAsync(c.host).catch(() => undefined),
                  })
                }
              >
                Remove
              </Button>
            ),
          },
        ]}
      />
    </>
  );
}

function ChangePassword({ onClose }: { onClose: () => void }) {
  const { message } = App.useApp();
  const [form] = Form.useForm<{ old: string; new: string; again: string }>();
  const { onSettled } = useDone("tokens");
  const change = useMutation({
    mutationFn: (f: { old: string; new: string }) => take(api.PUT("/api/v1/me/password", { body: { old: f.old, new: f.new } })),
    onSettled,
    onSuccess: () => {
      void message.success("Your password is another; all your other sign-ins have ended");
      onClose();
    },
  });
  return (
    <Modal open title="Change your password" okText="Change it" onOk={() => form.submit()} confirmLoading={change.isPending} onCancel={onClose}>
      <p className="quiet">All your other sign-ins end, and tokens that you gave to programs.</p>
      <Form form={form} layout="vertical" requiredMark={false} onFinish={(f) => change.mutate(f)}>
        <Form.Item name="old" label="Now" rules={[{ required: true, message: "The one that you sign in with, please" }]}>
          <Input.Password autoFocus autoComplete="current-password" />
        </Form.Item>
        <Form.Item name="new" label="Another" rules={[{ required: true, message: "Another, please" }]}>
          <Input.Password autoComplete="new-password" />
        </Form.Item>
        <Form.Item
          name="again"
          label="The same again"
          dependencies={["new"]}
          rules={[{ validator: (_, v: string) => (v === form.getFieldValue("new") ? Promise.resolve() : Promise.reject(new Error("The two are not the same"))) }]}
        >
          <Input.Password autoComplete="new-password" />
        </Form.Item>
        <ProblemNote error={change.error} />
      </Form>
    </Modal>
  );
}

function MakeToken({ onClose }: { onClose: () => void }) {
  const [form] = Form.useForm<{ name: string; days: number }>();
  const { onSettled } = useDone("tokens");
  const make = useMutation({ mutationFn: (f: { name: string; days: number }) => take(api.POST("/api/v1/tokens", { body: f })), onSettled });
  return (
    <Modal open title="A token for a program" okText="Make it" okButtonProps={{ style: make.data ? { display: "none" } : undefined }} cancelText={make.data ? "Done" : "Cancel"} onOk={() => form.submit()} confirmLoading={make.isPending} onCancel={onClose}>
      {make.data ? (
        <>
          <p>Give it to the program as YARDBENCH_TOKEN. It may do what you may, and is shown only now.</p>
          <Typography.Paragraph copyable code style={{ overflowWrap: "anywhere" }}>
            {make.data.value}
          </Typography.Paragraph>
        </>
      ) : (
        <Form form={form} layout="vertical" requiredMark={false} initialValues={{ days: 30 }} onFinish={(f) => make.mutate(f)}>
          <Form.Item name="name" label="What it is for" rules={[{ required: true, message: "Say what it is for" }]}>
            <Input autoFocus placeholder="nightly report" maxLength={60} />
          </Form.Item>
          <Form.Item name="days" label="Days until it ends">
            <InputNumber min={1} max={366} />
          </Form.Item>
          <ProblemNote error={make.error} />
        </Form>
      )}
    </Modal>
  );
}
