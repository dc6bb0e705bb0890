import { useMutation, useQuery } from "@tanstack/react-query";
import { App, Button, Form, Input, Table, Tooltip } from "antd";
import { useState } from "react";
import type { Me } from "../api/client";
import { Keys } from "../parts/Keys";
import { OwnFiles } from "../parts/OwnFiles";
import { GitKey } from "../parts/GitKey";
import { Usual } from "../parts/Usual";
import { PageHead, nothing } from "../parts/Page";
import { Ask } from "../parts/Ask";
import { ProblemNote } from "../parts/ProblemNote";
import { MakeToken, TokenTable } from "../parts/Tokens";
import { exact, when } from "words/times";
import { useDone } from "../parts/useDone";
import { changePassword, credentials, dropCredential, endToken, tokens as tokensOf } from "../service/tokens";
import * as say from "words/pages/YouPage";

/** What one is signed in with, and tokens for programs. */
export function YouPage({ person }: { person: Me }) {
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
              {say.changePassword()}
            </Button>
            <Button type="primary" onClick={() => setMaking(true)}>
              {say.makeAToken()}
            </Button>
          </>
        }
      >
        <span className="quiet">
          {person.name}, {person.email}, {person.role}
          {person.team && say.team(person.team)}
        </span>
      </PageHead>
      <ProblemNote error={tokens.error} />
      <TokenTable tokens={tokens.data?.filter((t) => t.door !== "ssh")} loading={tokens.isPending} end={(id) => end.mutate(id)} />
      <Usual />
      <OwnFiles />
      <GitKey />
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
      <h2 className="below">{say.gitHosts()}</h2>
      <ProblemNote error={known.error} />
      <Table
        size="small"
        rowKey="host"
        pagination={false}
        loading={known.isPending}
        dataSource={known.data}
        locale={nothing(say.youHaveNoCredential())}
        columns={[
          { title: say.host(), dataIndex: "host" },
          { title: say.userName(), dataIndex: "username" },
          { title: say.set(), render: (_, c) => <Tooltip title={exact(c.updated_at)}>{when(c.updated_at)}</Tooltip> },
          {
            title: "",
            align: "right",
            render: (_, c) => (
              <Button
                size="small"
                danger
                aria-label={say.removeTheCredentialFor(c.host)}
                onClick={() =>
                  modal.confirm({
                    title: say.removeYourCredentialFor(c.host),
                    content: say.launchesFromItAre(),
                    okText: say.remove(),
                    onOk: () => remove.mutateAsync(c.host).catch(() => undefined),
                  })
                }
              >
                {say.remove()}
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
      title={say.changeYourPassword()}
      ok={say.changeIt()}
      about={say.allYourOtherSign()}
      ask={(f) => changePassword(f.old, f.new)}
      changes={["tokens"]}
      onClose={onClose}
      onDone={() => {
        void message.success(say.yourPasswordIsAnother());
        onClose();
      }}
    >
      <Form.Item name="old" label={say.now()} rules={[{ required: true, message: say.theOneThatYou() }]}>
        <Input.Password autoFocus autoComplete="current-password" />
      </Form.Item>
      <Form.Item name="new" label={say.another()} rules={[{ required: true, message: say.anotherPlease() }]}>
        <Input.Password autoComplete="new-password" />
      </Form.Item>
      <Form.Item name="again" label={say.theSameAgain()} dependencies={["new"]} rules={[({ getFieldValue }) => ({ validator: (_, v: string) => (v === getFieldValue("new") ? Promise.resolve() : Promise.reject(new Error(say.theTwoAreNot()))) })]}>
        <Input.Password autoComplete="new-password" />
      </Form.Item>
    </Ask>
  );
}
