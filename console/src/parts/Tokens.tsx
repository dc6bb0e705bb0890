import { useQuery } from "@tanstack/react-query";
import { Button, Checkbox, Form, Input, InputNumber, Select, Table, Tooltip, Typography, theme } from "antd";
import { Ask } from "./Ask";
import { useState } from "react";
import type { Token } from "../api/client";
import { nothing } from "./Page";
import { exact, when } from "words/times";
import { repositories as registered } from "../service/repositories";
import { makeToken } from "../service/tokens";
import * as say from "words/parts/Tokens";

type Scope = NonNullable<Token["scopes"]>[number];

const scopes: { value: Scope; label: string }[] = [
  { value: "read", label: say.readLookAtWhat() },
  { value: "work", label: say.workTerminalsCommandsPorts() },
  { value: "launch", label: say.launchWorkspacesUpTo() },
  { value: "administer", label: say.administerRepositoriesPrebuildsSecrets() },
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
      locale={nothing(say.itHasNoToken())}
      columns={[
        { title: say.signedInBy(), render: (_, t) => (t.door === "token" ? say.token(t.name ?? "") : t.door === "console" ? say.theConsole() : say.theCommandLine()) + (t.provider ? say.byProvider(t.provider) : "") + (t.current ? say.here() : "") },
        { title: say.from(), render: (_, t) => (t.place ? <span title={t.client}>{say.placeAndClient(t.place, t.client ?? "")}</span> : "") },
        { title: say.reaches(), render: (_, t) => (t.scopes?.join(", ") || say.everything()) + (t.repositories ? say.of(t.repositories.join(", ")) : "") },
        { title: say.since(), render: (_, t) => <Tooltip title={exact(t.created_at) + (t.made_by ? say.by(t.made_by) : "")}>{when(t.created_at)}</Tooltip> },
        {
          title: say.until(),
          render: (_, t) => (
            <Tooltip title={exact(t.expires_at)}>
              <span style={{ color: soon(t) ? token.colorWarning : undefined }}>
                {when(t.expires_at)}
                {soon(t) && say.soon()}
              </span>
            </Tooltip>
          ),
        },
        { title: say.lastUsed(), render: (_, t) => (t.last_used_at ? <Tooltip title={say.toTheNearestTen(exact(t.last_used_at))}>{when(t.last_used_at)}</Tooltip> : say.never()) },
        {
          title: "",
          align: "right",
          render: (_, t) =>
            !t.current && (
              <Button size="small" danger onClick={() => end(t.id)}>
                {say.end()}
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
      title={of ? say.aTokenOf(of) : say.aTokenForA()}
      ok={say.makeIt()}
      width={580}
      initial={{ days: 30 }}
      ask={(f) => makeToken(bodyOf(f), of)}
      changes={["tokens"]}
      onClose={onClose}
      shown={(made) => (
        <>
          <p>{say.giveItToThe()}</p>
          <Typography.Paragraph copyable code style={{ overflowWrap: "anywhere" }}>
            {made.value}
          </Typography.Paragraph>
        </>
      )}
    >
      <Form.Item name="name" label={say.whatItIsFor()} rules={[{ required: true, message: say.sayWhatItIs() }]}>
        <Input autoFocus placeholder={say.nightlyReport()} maxLength={60} />
      </Form.Item>
      <Form.Item name="days" label={say.daysUntilItEnds()}>
        <InputNumber min={1} max={366} />
      </Form.Item>
      <Form.Item>
        <Checkbox checked={bounded} onChange={(e) => setBounded(e.target.checked)}>
          {say.itReachesLessThan(of)}
        </Checkbox>
      </Form.Item>
      {bounded && (
        <>
          <Form.Item name="scopes" label={say.scopes()} extra={say.noneIsAll()}>
            <Checkbox.Group options={scopes} style={{ display: "grid" }} />
          </Form.Item>
          <Form.Item name="repositories" label={say.onlyForTheseRepositories()} extra={say.itThenReachesNothing()}>
            <Select mode="multiple" allowClear placeholder={say.all()} options={repositories.data?.map((r) => ({ value: r.name, label: r.name }))} />
          </Form.Item>
        </>
      )}
    </Ask>
  );
}
