import { CheckCircleFilled, WarningFilled } from "@ant-design/icons";
import { useMutation, useQuery } from "@tanstack/react-query";
import { App, Button, Form, Input, Space, Table, Typography, theme } from "antd";
import { useState } from "react";
import { Link } from "react-router";
import { may, type Me } from "../api/client";
import { Ask } from "../parts/Ask";
import { GitHosts } from "../parts/GitHosts";
import { nothing, PageHead } from "../parts/Page";
import { ProblemNote } from "../parts/ProblemNote";
import { useDone } from "../parts/useDone";
import { drop, providers, put, type Provider } from "../service/providers";
import * as say from "words/pages/ProvidersPage";

/** The identity providers by which people sign in. */
export function ProvidersPage({ person }: { person: Me }) {
  const { token } = theme.useToken();
  const { modal } = App.useApp();
  const list = useQuery(providers);
  const [asked, setAsked] = useState<Provider | "new">();
  const remove = useMutation({ mutationFn: drop, ...useDone("providers") });
  const changes = may(person, "provider.change");
  return (
    <>
      <PageHead
        title={say.identityProviders()}
        action={
          changes && (
            <Button type="primary" onClick={() => setAsked("new")}>
              {say.addOne()}
            </Button>
          )
        }
      >
        <Link to="/people">{say.people()}</Link>
      </PageHead>
      <p className="quiet">{say.whatTheyAre(<Link to="/rules">{say.houseRules()}</Link>)}</p>
      <ProblemNote error={list.error ?? remove.error} />
      <Table<Provider>
        size="small"
        rowKey="name"
        pagination={false}
        loading={list.isPending}
        dataSource={list.data}
        locale={nothing(say.thereAreNone())}
        expandable={{ expandedRowRender: (p) => <MustKnow of={p} />, rowExpandable: () => true }}
        columns={[
          { title: say.name(), dataIndex: "name", width: 130 },
          { title: say.title(), dataIndex: "title", width: 150 },
          { title: say.issuer(), dataIndex: "issuer" },
          { title: say.client(), dataIndex: "client", width: 130 },
          { title: say.groupsClaim(), dataIndex: "groups_claim", width: 130 },
          {
            title: say.letsIn(),
            render: (_, p) =>
              p.rules ? (
                <span style={{ color: token.colorSuccess }}>
                  <CheckCircleFilled /> {say.whomTheRulesSay()}
                </span>
              ) : (
                <span style={{ color: token.colorWarning }}>
                  <WarningFilled /> {say.nobody(p.name)}
                </span>
              ),
          },
          {
            title: "",
            width: 170,
            align: "right",
            render: (_, p) =>
              changes && (
                <Space>
                  <Button size="small" onClick={() => setAsked(p)}>
                    {say.change()}
                  </Button>
                  <Button size="small" danger onClick={() => modal.confirm({ title: say.removeIt(p.title), content: say.whoeverIsSignedIn(), okText: say.remove(), okButtonProps: { danger: true }, onOk: () => remove.mutateAsync(p.name).catch(() => undefined) })}>
                    {say.remove()}
                  </Button>
                </Space>
              ),
          },
        ]}
      />
      <GitHosts changes={changes} />
      {asked && <Put of={asked === "new" ? undefined : asked} onClose={() => setAsked(undefined)} />}
    </>
  );
}

/** The addresses that a provider must know. */
function MustKnow({ of: p }: { of: Provider }) {
  return (
    <dl className="facts one">
      {[
        [say.wherePeopleComeBack(), p.callback],
        [say.whereItTells(), p.signed_out],
        [say.wherePeopleGo(), p.after_over],
      ].map(([what, address]) => (
        <div key={what} style={{ display: "contents" }}>
          <dt>{what}</dt>
          <dd>
            <Typography.Text copyable code>
              {address}
            </Typography.Text>
          </dd>
        </div>
      ))}
    </dl>
  );
}

type Fields = { name: string; title?: string; issuer: string; client: string; secret?: string; groups_claim?: string };

function Put({ of: p, onClose }: { of?: Provider; onClose: () => void }) {
  return (
    <Ask<Fields, Provider>
      title={p ? say.changeIt(p.title) : say.addAnIdentityProvider()}
      ok={p ? say.change() : say.addIt()}
      about={say.itIsAskedFirst()}
      initial={p ? { name: p.name, title: p.title, issuer: p.issuer, client: p.client, groups_claim: p.groups_claim } : { groups_claim: "groups" }}
      ask={({ name, ...f }) => put(name.trim(), { ...f, issuer: f.issuer.trim(), secret: f.secret || undefined, groups_claim: f.groups_claim ?? "", scopes: p?.scopes })}
      changes={["providers", "doors"]}
      onClose={onClose}
      shown={p ? undefined : (made) => <MustKnow of={made} />}
      width={640}
    >
      <Form.Item name="name" label={say.name()} extra={say.asInAddresses()} rules={[{ required: true, message: say.itsNamePlease() }]}>
        <Input autoFocus={!p} disabled={Boolean(p)} spellCheck={false} placeholder={say.likeThis()} />
      </Form.Item>
      <Form.Item name="title" label={say.title()} extra={say.whatThePageSays()}>
        <Input />
      </Form.Item>
      <Form.Item name="issuer" label={say.issuer()} rules={[{ required: true, message: say.itsAddressPlease() }]}>
        <Input spellCheck={false} placeholder={say.anIssuer()} />
      </Form.Item>
      <Form.Item name="client" label={say.client()} extra={say.whatItKnowsUsBy()} rules={[{ required: true, message: say.theClientPlease() }]}>
        <Input spellCheck={false} />
      </Form.Item>
      <Form.Item name="secret" label={say.secret()} extra={p && say.emptyKeepsIt()} rules={[{ required: !p, message: say.theSecretPlease() }]}>
        <Input.Password autoComplete="off" />
      </Form.Item>
      <Form.Item name="groups_claim" label={say.groupsClaim()} extra={say.theClaimThatHas()}>
        <Input spellCheck={false} />
      </Form.Item>
    </Ask>
  );
}
