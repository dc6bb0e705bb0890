import { useQuery } from "@tanstack/react-query";
import { Button, Checkbox, Form, Input, InputNumber, Select, Table, Tooltip, Typography, theme } from "antd";
import { Ask } from "./Ask";
import { useState } from "react";
import type { Token } from "../api/client";
import { nothing } from "./Page";
import { exact, when } from "./time";
import { repositories as registered } from "../service/repositories";
import { makeToken } from "../service/tokens";

type Scope = NonNullable<Token["scopes"]>[number];

const scopes: { value: Scope; label: string }[] = [
  { value: "read", label: "read: look at what may be seen" },
  { value: "work", label: "work: terminals, commands, ports; start, stop, rebuild" },
  { value: "launch", label: "launch: workspaces, up to their removal" },
  { value: "administer", label: "administer: repositories, prebuilds, secrets, people, house rules" },
];

const week = 7 * 24 * 3600 * 1000;

/** Sign-ins and tokens, with what each reaches and until when. */
export function TokenTable({ tokens, loading, end }: { tokens?: Token[]; loading: boolean; end: (id: string) => void }) {
  const { token } = theme.useToken();
  const soon = (t: Token) => t.door === "token" && new Date(t.expires_at).getTime() - Date.now() < week;
  return (
    <Table<Token>
      size="small"
      rowKey="id"
      pagination={false}
      loading={loading}
      dataSource={tokens}
      locale={nothing("It has no token yet.")}
      columns={[
        { title: "Signed in by", render: (_, t) => (t.door === "token" ? `token “${t.name}”` : t.door === "console" ? "the console" : "the command line") + (t.current ? ", here" : "") },
        { title: "Reaches", render: (_, t) => (t.scopes?.join(", ") || "everything") + (t.repositories ? ` of ${t.repositories.join(", ")}` : "") },
        { title: "Since", render: (_, t) => <Tooltip title={exact(t.created_at) + (t.made_by ? `, by ${t.made_by}` : "")}>{when(t.created_at)}</Tooltip> },
        {
          title: "Until",
          render: (_, t) => (
            <Tooltip title={exact(t.expires_at)}>
              <span style={{ color: soon(t) ? token.colorWarning : undefined }}>
                {when(t.expires_at)}
                {soon(t) && ", soon"}
              </span>
            </Tooltip>
          ),
        },
        { title: "Last used", render: (_, t) => (t.last_used_at ? <Tooltip title={`${exact(t.last_used_at)}, to the nearest ten minutes`}>{when(t.last_used_at)}</Tooltip> : "never") },
        {
          title: "",
          align: "right",
          render: (_, t) =>
            !t.current && (
              <Button size="small" danger onClick={() => end(t.id)}>
                End
              </Button>
            ),
        },
      ]}
    />
  );
}

type Answers = { name: string; days: number; scopes?: Scope[]; repositories?: string[] };

/** Makes a token: one's own, or one of an account of programs. */
export function MakeToken({ of, onClose }: { of?: string; onClose: () => void }) {
  const [bounded, setBounded] = useState(Boolean(of));
  const repositories = useQuery(registered);
  const bodyOf = (f: Answers) => (bounded ? { ...f, scopes: f.scopes?.length ? f.scopes : undefined, repositories: f.repositories?.length ? f.repositories : undefined } : { name: f.name, days: f.days });
  return (
    <Ask<Answers, Awaited<ReturnType<typeof makeToken>>>
      title={of ? `A token of ${of}` : "A token for a program"}
      ok="Make it"
      width={580}
      initial={{ days: 30 }}
      ask={(f) => makeToken(bodyOf(f), of)}
      changes={["tokens"]}
      onClose={onClose}
      shown={(made) => (
        <>
          <p>Give it to the program as YARDBENCH_TOKEN. It is shown only now.</p>
          <Typography.Paragraph copyable code style={{ overflowWrap: "anywhere" }}>
            {made.value}
          </Typography.Paragraph>
        </>
      )}
    >
      <Form.Item name="name" label="What it is for" rules={[{ required: true, message: "Say what it is for" }]}>
        <Input autoFocus placeholder="nightly report" maxLength={60} />
      </Form.Item>
      <Form.Item name="days" label="Days until it ends">
        <InputNumber min={1} max={366} />
      </Form.Item>
      <Form.Item>
        <Checkbox checked={bounded} onChange={(e) => setBounded(e.target.checked)}>
          It reaches less than {of ? "all that the account may" : "all that you may"}
        </Checkbox>
      </Form.Item>
      {bounded && (
        <>
          <Form.Item name="scopes" label="Scopes" extra="None is all.">
            <Checkbox.Group options={scopes} style={{ display: "grid" }} />
          </Form.Item>
          <Form.Item name="repositories" label="Only for these repositories" extra="It then reaches nothing that belongs to none, like the journal.">
            <Select mode="multiple" allowClear placeholder="all" options={repositories.data?.map((r) => ({ value: r.name, label: r.name }))} />
          </Form.Item>
        </>
      )}
    </Ask>
  );
}
