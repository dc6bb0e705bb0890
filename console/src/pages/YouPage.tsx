import { useMutation, useQuery } from "@tanstack/react-query";
import { App, Button, Form, Input, Table, Tooltip } from "antd";
import { useState } from "react";
import type { Person } from "../api/client";
import { Keys } from "../parts/Keys";
import { PageHead, nothing } from "../parts/Page";
import { Ask } from "../parts/Ask";
import { ProblemNote } from "../parts/ProblemNote";
import { MakeToken, TokenTable } from "../parts/Tokens";
import { exact, when } from "../parts/time";
import { useDone } from "../parts/useDone";
import { changePassword, credentials, dropCredential, endToken, tokens as tokensOf } from "../service/tokens";

/** What one is signed in with, and tokens for programs. */
export function YouPage({ person }: { person: Person }) {
  const [making, setMaking] = useState(false);
  const [changing, setChanging] = useState(false);
  const tokens = useQuery(tokensOf);
  const done = useDone("tokens", "me");
  const end = useMutation({ mutationFn: endToken, ...done });
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
      <TokenTable tokens={tokens.data?.filter((t) => t.door !== "ssh")} loading={tokens.isPending} end={(id) => end.mutate(id)} />
      <Keys />
      <Credentials />
      {changing && <ChangePassword onClose={() => setChanging(false)} />}
      {making && <MakeToken onClose={() => setMaking(false)} />}
    </>
  );
}

/** What one signs in to git hosts with; the secret itself is never shown. */
function Credentials() {
  const { modal } = App.useApp();
  const known = useQuery(credentials);
  const remove = useMutation({ mutationFn: dropCredential, ...useDone("credentials") });
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
  return (
    <Ask<{ old: string; new: string; again: string }>
      title="Change your password"
      ok="Change it"
      about="All your other sign-ins end, and tokens that you gave to programs."
      ask={(f) => changePassword(f.old, f.new)}
      changes={["tokens"]}
      onClose={onClose}
      onDone={() => {
        void message.success("Your password is another; all your other sign-ins have ended");
        onClose();
      }}
    >
      <Form.Item name="old" label="Now" rules={[{ required: true, message: "The one that you sign in with, please" }]}>
        <Input.Password autoFocus autoComplete="current-password" />
      </Form.Item>
      <Form.Item name="new" label="Another" rules={[{ required: true, message: "Another, please" }]}>
        <Input.Password autoComplete="new-password" />
      </Form.Item>
      <Form.Item name="again" label="The same again" dependencies={["new"]} rules={[({ getFieldValue }) => ({ validator: (_, v: string) => (v === getFieldValue("new") ? Promise.resolve() : Promise.reject(new Error("The two are not the same"))) })]}>
        <Input.Password autoComplete="new-password" />
      </Form.Item>
    </Ask>
  );
}
